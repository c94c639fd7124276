"""The points of a plan at work: each makes its block from the blocks of its sources.

Which points there are and what each is made of is said by `saltanvil.session.graph`; how late each is, by
`saltanvil.engine.latency`.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np

from saltanvil.dsp import mix
from saltanvil.dsp.gate import GATE_STATES
from saltanvil.dsp.glide import glide_part
from saltanvil.dsp.units import SILENCE_DB, db_to_gain, gain_to_db
from saltanvil.engine.audition import ScopeMonitor
from saltanvil.engine.media import Media
from saltanvil.engine.rack import Audio, DelayLine, Glide, Rack
from saltanvil.processors import Processor, Settings
from saltanvil.processors.base import Telemetry, sensible
from saltanvil.processors.split import Split
from saltanvil.session.document import Lane, Step, Strip

#: Below this a change of level is not worth telling.
SOUNDING_DB = -60.0
NOTHING: Audio = np.zeros((2, 0), np.float32)


class Node:
    """A point at work.

    sources: what it is made of; latency_frames: how late it is; stored: whether its sound is worth keeping, or quickly made
    from its source again; scope_monitor: set at the scope, if someone listens; out: its last block.
    """

    scope_monitor: ScopeMonitor | None = None

    def __init__(self, sources: Sequence["Node"], latency_frames: int, channels: int, stored: bool = True) -> None:
        self.sources = list(sources)
        self.stored = stored
        self.latency_frames = latency_frames
        self.channels = channels
        self.out: Audio = NOTHING

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        """The block of `frames` from session frame `at` on, from the blocks of the sources. Blocks follow each other."""
        return inputs[0]

    def cache_key(self) -> tuple[object, ...]:
        """All that determines its sound besides its sources."""
        return ()

    def run(self, at: int, frames: int) -> None:
        self.out = self.make(at, frames, [source.out for source in self.sources])


@dataclass
class Feed:
    """What reaches a strip from one source. gains: what a send or a lane gets on the way; None leaves it as it is.

    name: of the send, the lane or the strip it comes from; peak_db: its last block's, in dBFS, if it has gains.
    """

    name: str
    wait: int
    late: DelayLine
    gains: tuple[float, float] | None = None
    glide: Glide | None = None
    peak_db: float = SILENCE_DB

    def sound(self, x: Audio, part: float) -> Audio:
        """(2, frames), as late as the latest."""
        if self.gains is not None:
            assert self.glide is not None
            y = np.empty((2, x.shape[1]), np.float32)
            mix.place(x, y, *self.gains, part, self.glide.values)
            self.peak_db = gain_to_db(float(mix.peak(y)))
            x = y
        return self.late(x, self.wait)


class Entry(Node):
    """What enters a strip's path: media, or the sum of what feeds it, each aligned to the latest; then the trim."""

    def __init__(
        self, strip: Strip, sources: Sequence[Node], feeds: list[Feed], latency_frames: int, channels: int, rate: int,
        media: Media, trim: Glide,
    ) -> None:  # fmt: skip
        super().__init__(sources, latency_frames, channels)
        self.strip, self.feeds, self.rate, self.media, self.trim = strip, feeds, rate, media, trim

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        strip = self.strip
        if strip.media_id is not None:
            x = self.media.read(strip.media_id, at - round(strip.start_s * self.rate), frames)
        else:
            x = np.zeros((self.channels, frames), np.float32)
            for feed, sound in zip(self.feeds, inputs, strict=True):
                mix.accumulate(feed.sound(sound, glide_part(self.rate)), x)
        trim = db_to_gain(strip.trim_db)
        if trim == 1.0 and not self.trim.values[mix.PRIMED]:
            return x
        y = np.empty_like(x)
        mix.place(x, y, trim, trim, glide_part(self.rate), self.trim.values)
        return y

    def cache_key(self) -> tuple[object, ...]:
        strip = self.strip
        return strip.media_id, strip.start_s, strip.trim_db, [(feed.gains, feed.wait) for feed in self.feeds]


@dataclass
class KeyFeed:
    """An outside key on its way to a detector: its trim, and as late as the sound it steers."""

    wait: int
    gain: float
    late: DelayLine
    glide: Glide

    def sound(self, x: Audio, channels: int, part: float) -> Audio:
        """With as many channels as the sound it steers: the mean of its sides, or the same on both."""
        x = self.fitted(x, channels)
        y = np.empty((channels, x.shape[1]), np.float32)
        mix.place(x, y, self.gain, self.gain, part, self.glide.values)
        return self.late(y, self.wait)

    @staticmethod
    def fitted(x: Audio, channels: int) -> Audio:
        if len(x) <= channels:
            return x
        folded = np.empty((1, x.shape[1]), np.float32)
        mix.fold(x, folded)
        return folded


def widened(x: Audio, channels: int) -> Audio:
    """A mono sound on both sides, where stereo is wanted."""
    return x if len(x) == channels else np.repeat(x, channels, axis=0)


class StepNode(Node):
    """What leaves a step.

    settings: those it runs with; late_by: its own latency; wait: how long the sound waits for the key before it.
    """

    def __init__(
        self, step: Step, settings: Settings, processor: Processor, sources: Sequence[Node], latency_frames: int, channels: int,
        late_by: int, wait: int, rack: Rack, key: KeyFeed | None = None,
    ) -> None:  # fmt: skip
        super().__init__(sources, latency_frames, channels)
        self.step, self.settings, self.processor = step, settings, processor
        self.late_by, self.wait, self.key = late_by, wait, key
        self.rate = processor.context.rate
        self.late = rack.delay_line(channels, "step", step.id)
        self.waiting = rack.delay_line(channels, "step waits", step.id)
        #: Change of peak level over the last block, for steps whose telemetry does not say what they do.
        self.moved_db = 0.0

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        x = self.waiting(widened(inputs[0], self.channels), self.wait)
        # A key's way is walked also past a bypass, so that it is settled when the step comes back.
        key = None if self.key is None else self.key.sound(inputs[1], self.channels, glide_part(self.rate))
        scope_monitor = self.scope_monitor
        if self.step.bypass:
            self.processor.telemetry = Telemetry()
            self.moved_db = 0.0
            y = before = self.late(x, self.late_by)
            return y if scope_monitor is None else scope_monitor.compare(before, y, self.latency_frames)
        y = self.processor.process(x, key)
        self._tell(x, y)
        if scope_monitor is None:
            self.late.remember(x, self.late_by)  # so that a bypass, or whoever listens next, finds its past
            return y
        before = self.late(x, self.late_by)
        heard = self.processor.heard if self.processor.listens else None
        if scope_monitor.audition.listening == "key" and heard is not None:
            scope_monitor.straight(scope_monitor.rack.delay_line(len(heard), "key")(heard, self.late_by), self.latency_frames)
        return scope_monitor.compare(before, y, self.latency_frames)

    def _tell(self, x: Audio, y: Audio) -> None:
        """How far the peak moved, where the processor does not say what it does."""
        if not len(self.processor.telemetry.reduction_db):
            entered = gain_to_db(float(mix.peak(x)))
            self.moved_db = gain_to_db(float(mix.peak(y))) - entered if entered > SOUNDING_DB else 0.0

    def cache_key(self) -> tuple[object, ...]:
        return self.step.kind, self.settings.model_dump_json(), self.step.bypass, self.late_by, *self.heard_key()

    def heard_key(self) -> tuple[object, ...]:
        """What its sound depends on besides its settings: its key's way, and the tempo."""
        key = None if self.key is None else (self.key.gain, self.key.wait)
        return self.wait, key, self.processor.context.tempo_bpm

    @property
    def change_db(self) -> float:
        """The largest change of gain in the last block, negative where it fell."""
        reduction_db = self.processor.telemetry.reduction_db
        return -float(reduction_db[np.abs(reduction_db).argmax()]) if len(reduction_db) else self.moved_db

    @property
    def gate_state(self) -> str | None:
        """What its gate is doing, for a step that has one."""
        row = self.processor.telemetry.rows.get("gate_state")
        return None if row is None or not len(row) else GATE_STATES[int(row[-1])]

    def walk(self) -> Iterator["StepNode"]:
        """The step, and those in its lanes."""
        yield self


class DividedNode(Node):
    """What a split makes of its input: the lanes' inputs, one after the other along the channels."""

    def __init__(self, processor: Split, settings: Settings, source: Node, latency_frames: int, channels: int) -> None:
        super().__init__([source], latency_frames, channels, processor.settings.by != "copies")
        self.split, self.settings = processor, settings

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        return self.split.divide(sensible(widened(inputs[0], self.channels))).reshape(-1, frames)

    def cache_key(self) -> tuple[object, ...]:
        return (self.settings.model_dump_json(include={"by", "dividers_hz", "slope", "phase"}),)


class LaneEntry(Node):
    """What enters a lane."""

    def __init__(self, index: int, source: Node, channels: int) -> None:
        super().__init__([source], source.latency_frames, channels, stored=False)
        self.index = index

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        first = self.index * self.channels
        return inputs[0][first : first + self.channels]

    def cache_key(self) -> tuple[object, ...]:
        return (self.index,)


class LaneNode(Node):
    """What leaves a lane's path; a lane bypassed is a delay."""

    def __init__(self, lane: Lane, last: Node, entry: Node, steps: list[StepNode], late: DelayLine) -> None:
        super().__init__([last, entry], last.latency_frames, last.channels, stored=lane.bypass)
        self.lane, self.steps, self.late = lane, steps, late
        self.latency = last.latency_frames - entry.latency_frames

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        entered = widened(inputs[1], self.channels)
        if self.lane.bypass:
            return self.late(entered, self.latency)
        self.late.remember(entered, self.latency)
        return inputs[0]

    def cache_key(self) -> tuple[object, ...]:
        return self.lane.bypass, self.latency


class PlacedNode(Node):
    """A lane in its split's sum. place: gains to both sides; level: the lane's own; share: what a blend gives it."""

    def __init__(
        self, lane: LaneNode, entry: Node, latency_frames: int, channels: int, place: tuple[float, float], level: float,
        share: float, rack: Rack, rate: int,
    ) -> None:  # fmt: skip
        super().__init__([lane, entry], latency_frames, channels)
        self.lane, self.place, self.level, self.share, self.rate = lane.lane, place, level, share, rate
        self.wait = latency_frames - lane.latency_frames
        self.waiting = rack.delay_line(lane.channels, "lane waits", self.lane.id)
        self.glide = rack.glide("lane", self.lane.id)
        #: Peak of the last block, in dBFS.
        self.peak_db = SILENCE_DB

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        y = np.empty((self.channels, frames), np.float32)
        left, right = self.place
        gain = self.level * self.share
        mix.place(self.waiting(inputs[0], self.wait), y, gain * left, gain * right, glide_part(self.rate), self.glide.values)
        scope_monitor = self.scope_monitor
        if scope_monitor is not None:
            entered = inputs[1]
            late = scope_monitor.rack.delay_line(len(entered), self.lane.id, "lane before")(
                entered, self.latency_frames - self.sources[1].latency_frames
            )
            y = scope_monitor.compare(self.in_place(late, self.share), y, self.latency_frames)
        self.peak_db = gain_to_db(float(mix.peak(y)))
        return y

    def in_place(self, x: Audio, gain: float = 1.0) -> Audio:
        """What enters or leaves the lane as it would lie in the sum."""
        y = np.empty((self.channels, x.shape[1]), np.float32)
        left, right = self.place
        mix.place(x, y, gain * left, gain * right, 1.0, np.zeros(mix.GLIDE_STATE))
        return y

    def cache_key(self) -> tuple[object, ...]:
        return self.wait, self.level, self.share, self.place, self.channels


class SplitNode(StepNode):
    """What leaves a split: the sum of the lanes that go to no bus."""

    placed: list[PlacedNode]
    lanes: list[LaneNode]

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        self.moved_db = 0.0
        x = widened(inputs[0], self.channels)
        if self.step.bypass:
            y = before = self.late(x, self.late_by)
            return y if self.scope_monitor is None else self.scope_monitor.compare(before, y, self.latency_frames)
        y = self.joined(inputs[1:], frames)
        self._tell(x, y)
        if self.scope_monitor is None:
            self.late.remember(x, self.late_by)
            return y
        return self.scope_monitor.compare(self.late(x, self.late_by), y, self.latency_frames)

    def joined(self, lanes: Sequence[Audio], frames: int) -> Audio:
        y = np.zeros((self.channels, frames), np.float32)
        for lane, inputs in zip(self.step.lanes, lanes, strict=True):
            if lane.output is None:
                mix.accumulate(inputs, y)
        return y

    def cache_key(self) -> tuple[object, ...]:
        return self.step.bypass, self.late_by, [lane.output is None for lane in self.step.lanes]

    def walk(self) -> Iterator[StepNode]:
        yield self
        for lane in self.lanes:
            for step in lane.steps:
                yield from step.walk()


class EndNode(Node):
    """What leaves a strip's path."""

    def __init__(self, last: Node, entry: Node, late: DelayLine) -> None:
        super().__init__([last, entry], last.latency_frames, last.channels, stored=False)
        self.late, self.latency = late, last.latency_frames - entry.latency_frames

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        entered = widened(inputs[1], self.channels)
        if self.scope_monitor is None:
            self.late.remember(entered, self.latency)
            return inputs[0]
        return self.scope_monitor.compare(self.late(entered, self.latency), inputs[0], self.latency_frames)


class OutNode(Node):
    """A strip's output: its level and pan, to stereo."""

    def __init__(self, end: Node, gains: tuple[float, float], fader: Glide, rate: int) -> None:
        super().__init__([end], end.latency_frames, 2)
        self.gains, self.fader, self.rate = gains, fader, rate

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        y = np.empty((2, frames), np.float32)
        mix.place(inputs[0], y, *self.gains, glide_part(self.rate), self.fader.values)
        return y

    def cache_key(self) -> tuple[object, ...]:
        return (self.gains,)


@dataclass
class StripNode:
    """One strip at work."""

    strip: Strip
    entry: Entry
    end: EndNode
    out: OutNode
    steps: list[StepNode] = field(default_factory=list)

    @property
    def latency(self) -> int:
        return self.end.latency_frames

    @property
    def output(self) -> Audio:
        """The last block, (2, frames)."""
        return self.out.out

    @property
    def gains(self) -> tuple[float, float]:
        return self.out.gains

    def walk(self) -> Iterator[StepNode]:
        """Every step, those in lanes too."""
        for step in self.steps:
            yield from step.walk()

    def levels_db(self) -> tuple[float, float]:
        """Sample peaks of the last block as it enters the path and as it leaves the strip, in dBFS."""
        return gain_to_db(float(mix.peak(self.entry.out))), gain_to_db(float(mix.peak(self.output)))
