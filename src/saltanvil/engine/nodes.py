"""The points of a plan at work: each makes its block from the blocks of its sources.

Which points there are and what each is made of is said by `saltanvil.session.graph`; how late each is, by
`saltanvil.engine.latency`.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from saltanvil.dsp import mix
from saltanvil.dsp.gate import GATE_STATES
from saltanvil.dsp.glide import glide_part
from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.dsp.units import SILENCE_DB, db_to_gain, gain_to_db
from saltanvil.engine.audition import ScopeMonitor
from saltanvil.engine.automation import Moving
from saltanvil.engine.media import Media
from saltanvil.engine.rack import Audio, DelayLine, Glide, Rack
from saltanvil.processors import Processor, Settings
from saltanvil.processors.base import Context, Telemetry, sensible
from saltanvil.processors.split import Split
from saltanvil.session.document import Lane, Step, Strip

#: Below this a change of level is not worth telling.
SOUNDING_DB = -60.0
NOTHING: Audio = np.zeros((2, 0), np.float32)
#: Gains to the left and the right.
Gains = tuple[float, float]


def place(x: Audio, y: Audio, gains: Gains, moving: Moving[Gains] | None, at: int, part: float, glide: Glide) -> None:
    """Give each side its gain (see `mix.place`), or the gains that move. at: the session's frame of the block's begin."""
    if moving is None:
        mix.place(x, y, *gains, part, glide.values)
        return
    pieces = moving.pieces(at, x.shape[1])
    ends = np.array([end for _, end, _ in pieces], np.int64)
    mix.place_along(x, y, ends, np.array([held for *_, held in pieces], np.float64), part, glide.values)


def moves_of(*moving: Moving[Gains] | None) -> tuple[object, ...]:
    """What tells the sound of moving gains apart."""
    return tuple(None if one is None else one.cache_key() for one in moving)


class BypassFade:
    """A bypass that moves over time: the sound goes over from the treated to the untreated, and both go on.

    treated: share of the treated sound as long as it does not move, to both sides.
    """

    def __init__(self, treated: float, moving: Moving[Gains] | None, rack: Rack, name: str, rate: int) -> None:
        self.moving, self.rate = moving, rate
        self.gains, self.rest = (treated, treated), (1.0 - treated, 1.0 - treated)
        self.glide, self.rest_glide = rack.glide("bypass", name), rack.glide("bypassed", name)
        self.others = None if moving is None else moving.mapped(lambda gains: (1.0 - gains[0], 1.0 - gains[1]))

    def __call__(self, at: int, before: Audio, treated: Audio) -> Audio:
        y, rest, part = np.empty_like(treated), np.empty_like(treated), glide_part(self.rate)
        place(treated, y, self.gains, self.moving, at, part, self.glide)
        place(before, rest, self.rest, self.others, at, part, self.rest_glide)
        mix.accumulate(rest, y)
        return y

    def telemetry(self, at: int, frames: int, told: Telemetry) -> Telemetry:
        """What a step did, without what nobody hears of it."""
        share = np.full(-(-frames // TICK_FRAMES), self.gains[0], np.float32)
        for begin, end, (gain, _) in [] if self.moving is None else self.moving.pieces(at, frames):
            share[begin // TICK_FRAMES : -(-end // TICK_FRAMES)] = gain
        return replace(told, reduction_db=told.reduction_db * share[: len(told.reduction_db)])

    def cache_key(self) -> tuple[object, ...]:
        return self.gains, moves_of(self.moving)


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

    def carry_on(self, context: Context, replaced: Mapping[int, "Node"]) -> None:
        """Take a part in another plan, or in the same after its states were gone back to. replaced: nodes that stand for others
        there, by the identity of those."""
        self.scope_monitor = None
        self.sources = [replaced.get(id(source), source) for source in self.sources]

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
    gains: Gains | None = None
    glide: Glide | None = None
    moving: Moving[Gains] | None = None
    peak_db: float = SILENCE_DB

    def sound(self, x: Audio, part: float, at: int) -> Audio:
        """(2, frames), as late as the latest."""
        if self.gains is not None:
            assert self.glide is not None
            y = np.empty((2, x.shape[1]), np.float32)
            place(x, y, self.gains, self.moving, at, part, self.glide)
            self.peak_db = gain_to_db(float(mix.peak(y)))
            x = y
        return self.late(x, self.wait)


class Entry(Node):
    """What enters a strip's path: media, or the sum of what feeds it, each aligned to the latest; then the trim."""

    def __init__(
        self, strip: Strip, sources: Sequence[Node], feeds: list[Feed], latency_frames: int, channels: int, rate: int,
        media: Media, trim: Glide, moving: Moving[Gains] | None = None,
    ) -> None:  # fmt: skip
        super().__init__(sources, latency_frames, channels)
        self.moving = moving
        self.strip, self.feeds, self.rate, self.media, self.trim = strip, feeds, rate, media, trim

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        strip = self.strip
        if strip.media_id is not None:
            x = self.media.read(strip.media_id, at - round(strip.start_s * self.rate), frames)
        else:
            x = np.zeros((self.channels, frames), np.float32)
            for feed, sound in zip(self.feeds, inputs, strict=True):
                mix.accumulate(feed.sound(sound, glide_part(self.rate), at), x)
        trim = db_to_gain(strip.trim_db)
        if trim == 1.0 and self.moving is None and not self.trim.values[mix.PRIMED]:
            return x
        y = np.empty_like(x)
        place(x, y, (trim, trim), self.moving, at, glide_part(self.rate), self.trim)
        return y

    def cache_key(self) -> tuple[object, ...]:
        strip = self.strip
        feeds = [(feed.gains, feed.wait, moves_of(feed.moving)) for feed in self.feeds]
        return strip.media_id, strip.start_s, strip.trim_db, moves_of(self.moving), feeds


@dataclass
class KeyFeed:
    """An outside key on its way to a detector: its trim, and as late as the sound it steers."""

    wait: int
    gain: float
    late: DelayLine
    glide: Glide
    moving: Moving[Gains] | None = None

    def sound(self, x: Audio, channels: int, part: float, at: int) -> Audio:
        """With as many channels as the sound it steers: the mean of its sides, or the same on both."""
        x = self.fitted(x, channels)
        y = np.empty((channels, x.shape[1]), np.float32)
        place(x, y, (self.gain, self.gain), self.moving, at, part, self.glide)
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

    settings: those it runs with; late_by: its own latency; wait: how long the sound waits for the key before it; moving: settings
    that move over time; fade: a bypass that does.
    """

    moving: Moving[Settings] | None = None
    fade: BypassFade | None = None

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
        key = None if self.key is None else self.key.sound(inputs[1], self.channels, glide_part(self.rate), at)
        scope_monitor = self.scope_monitor
        if self.step.bypassed:
            self.processor.telemetry = Telemetry()
            self.moved_db = 0.0
            y = before = self.late(x, self.late_by)
            return y if scope_monitor is None else scope_monitor.compare(before, y, self.latency_frames)
        y = self._treated(at, x, key)
        self._tell(x, y)
        if scope_monitor is None and self.fade is None:
            self.late.remember(x, self.late_by)  # so that a bypass, or whoever listens next, finds its past
            return y
        before = self.late(x, self.late_by)
        if self.fade is not None:
            y = self.fade(at, before, y)
            self.processor.telemetry = self.fade.telemetry(at, frames, self.processor.telemetry)
        if scope_monitor is None:
            return y
        heard = self.processor.heard if self.processor.listens else None
        if scope_monitor.audition.listening == "key" and heard is not None:
            scope_monitor.straight(scope_monitor.rack.delay_line(len(heard), "key")(heard, self.late_by), self.latency_frames)
        return scope_monitor.compare(before, y, self.latency_frames)

    def carry_on(self, context: Context, replaced: Mapping[int, Node]) -> None:
        super().carry_on(context, replaced)
        if self.moving is None:
            self.processor.take(self.settings, context)

    def _treated(self, at: int, x: Audio, key: Audio | None) -> Audio:
        """What the processor makes of a block, with the settings that hold at each time."""
        processor = self.processor
        if self.moving is None:
            return processor.process(x, key)
        parts: list[Audio] = []
        told: list[Telemetry] = []
        heard: list[Audio] = []
        pieces = self.moving.pieces(at, x.shape[1])
        for begin, end, settings in pieces:
            if processor.configured[0] is not settings:
                processor.configure(settings, processor.context)
                processor.configured = settings, processor.context
            if len(pieces) == 1:
                return processor.process(x, key)
            cut = slice(begin, end)
            parts.append(
                processor.process(np.ascontiguousarray(x[:, cut]), None if key is None else np.ascontiguousarray(key[:, cut]))
            )
            told.append(processor.telemetry)
            if processor.heard is not None:
                heard.append(processor.heard)
        processor.telemetry = joined(told)
        processor.heard = np.concatenate(heard, axis=1) if heard else None
        return np.concatenate(parts, axis=1)

    def _tell(self, x: Audio, y: Audio) -> None:
        """How far the peak moved, where the processor does not say what it does."""
        if not len(self.processor.telemetry.reduction_db):
            entered = gain_to_db(float(mix.peak(x)))
            self.moved_db = gain_to_db(float(mix.peak(y))) - entered if entered > SOUNDING_DB else 0.0

    def cache_key(self) -> tuple[object, ...]:
        moves = None if self.moving is None else self.moving.cache_key(), None if self.fade is None else self.fade.cache_key()
        return self.step.kind, self.settings.model_dump_json(), self.step.bypassed, self.late_by, moves, *self.heard_key()

    def heard_key(self) -> tuple[object, ...]:
        """What its sound depends on besides its settings: its key's way, and the tempo."""
        key = None if self.key is None else (self.key.gain, self.key.wait, moves_of(self.key.moving))
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


def joined(told: Sequence[Telemetry]) -> Telemetry:
    """The telemetry of blocks that follow each other."""
    return Telemetry(
        np.concatenate([one.reduction_db for one in told]),
        np.concatenate([one.detector_db for one in told]),
        {row: np.concatenate([one.rows[row] for one in told]) for row in told[0].rows},
    )


class DividedNode(Node):
    """What a split makes of its input: the lanes' inputs, one after the other along the channels."""

    moving: Moving[Settings] | None = None

    def __init__(self, processor: Split, settings: Settings, source: Node, latency_frames: int, channels: int) -> None:
        super().__init__([source], latency_frames, channels, processor.settings.by != "copies")
        self.split, self.settings = processor, settings

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        x = sensible(widened(inputs[0], self.channels))
        if self.moving is None:
            return self.split.divide(x).reshape(-1, frames)
        parts: list[Audio] = []
        for begin, end, settings in self.moving.pieces(at, frames):
            self.split.take(settings, self.split.context)
            parts.append(self.split.divide(np.ascontiguousarray(x[:, begin:end])).reshape(-1, end - begin))
        return parts[0] if len(parts) == 1 else np.concatenate(parts, axis=1)

    def carry_on(self, context: Context, replaced: Mapping[int, Node]) -> None:
        super().carry_on(context, replaced)
        if self.moving is None:
            self.split.take(self.settings, context)

    def cache_key(self) -> tuple[object, ...]:
        moves = None if self.moving is None else self.moving.cache_key()
        return self.settings.model_dump_json(include={"by", "dividers_hz", "slope", "phase"}), moves


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
    """What leaves a lane's path; a lane bypassed is a delay. fade: a bypass that moves over time."""

    def __init__(
        self, lane: Lane, last: Node, entry: Node, steps: list[StepNode], late: DelayLine, fade: BypassFade | None = None
    ) -> None:
        super().__init__([last, entry], last.latency_frames, last.channels, stored=lane.bypassed or fade is not None)
        self.lane, self.steps, self.late, self.fade = lane, steps, late, fade
        self.latency = last.latency_frames - entry.latency_frames

    def carry_on(self, context: Context, replaced: Mapping[int, Node]) -> None:
        super().carry_on(context, replaced)
        steps = (replaced.get(id(step), step) for step in self.steps)
        self.steps = [step for step in steps if isinstance(step, StepNode)]

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        entered = widened(inputs[1], self.channels)
        if self.lane.bypassed:
            return self.late(entered, self.latency)
        if self.fade is not None:
            return self.fade(at, self.late(entered, self.latency), widened(inputs[0], self.channels))
        self.late.remember(entered, self.latency)
        return inputs[0]

    def cache_key(self) -> tuple[object, ...]:
        return self.lane.bypassed, self.latency, None if self.fade is None else self.fade.cache_key()


class PlacedNode(Node):
    """A lane in its split's sum. place: gains to both sides; level: the lane's own; share: what a blend gives it; moving: both,
    where one of them moves over time."""

    def __init__(
        self, lane: LaneNode, entry: Node, latency_frames: int, channels: int, place: Gains, level: float,
        share: float, rack: Rack, rate: int, moving: Moving[Gains] | None = None,
    ) -> None:  # fmt: skip
        super().__init__([lane, entry], latency_frames, channels)
        self.lane, self.place, self.level, self.share, self.rate = lane.lane, place, level, share, rate
        self.moving = moving
        #: The gains to both sides, and those of a lane at full level and of one by itself.
        self.sides = self.by_share = self.by_level = None
        if moving is not None:
            self.sides = moving.mapped(lambda held: (held[0] * held[1] * place[0], held[0] * held[1] * place[1]))
            self.by_share = moving.mapped(lambda held: (held[1] * place[0], held[1] * place[1]))
            self.by_level = moving.mapped(lambda held: (held[0] * place[0], held[0] * place[1]))
        self.wait = latency_frames - lane.latency_frames
        self.waiting = rack.delay_line(lane.channels, "lane waits", self.lane.id)
        self.glide = rack.glide("lane", self.lane.id)
        #: Peak of the last block, in dBFS.
        self.peak_db = SILENCE_DB

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        y = np.empty((self.channels, frames), np.float32)
        left, right = self.place
        gain = self.level * self.share
        sound = self.waiting(inputs[0], self.wait)
        place(sound, y, (gain * left, gain * right), self.sides, at, glide_part(self.rate), self.glide)
        scope_monitor = self.scope_monitor
        if scope_monitor is not None:
            entered = inputs[1]
            late = scope_monitor.rack.delay_line(len(entered), self.lane.id, "lane before")(
                entered, self.latency_frames - self.sources[1].latency_frames
            )
            y = scope_monitor.compare(self._in_place(late, self.share, self.by_share, at), y, self.latency_frames)
        self.peak_db = gain_to_db(float(mix.peak(y)))
        return y

    def entering(self, x: Audio) -> Audio:
        """What enters the lane as it would lie in the sum, at full level."""
        return self._in_place(x, 1.0, None, 0)

    def leaving(self, x: Audio, at: int) -> Audio:
        """What leaves the lane's path as it would lie in the sum by itself. at: the session's frame of its first sound."""
        return self._in_place(x, self.level, self.by_level, at + self.latency_frames)

    def _in_place(self, x: Audio, gain: float, moving: Moving[Gains] | None, at: int) -> Audio:
        y = np.empty((self.channels, x.shape[1]), np.float32)
        left, right = self.place
        place(x, y, (gain * left, gain * right), moving, at, 1.0, Glide())
        return y

    def cache_key(self) -> tuple[object, ...]:
        return self.wait, self.level, self.share, self.place, self.channels, moves_of(self.moving)


class SplitNode(StepNode):
    """What leaves a split: the sum of the lanes that go to no bus."""

    def carry_on(self, context: Context, replaced: Mapping[int, Node]) -> None:
        Node.carry_on(self, context, replaced)  # what divides takes the settings

    @property
    def placed(self) -> list[PlacedNode]:
        return [node for node in self.sources[1:] if isinstance(node, PlacedNode)]

    @property
    def lanes(self) -> list[LaneNode]:
        return [node for placed in self.placed for node in placed.sources[:1] if isinstance(node, LaneNode)]

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        self.moved_db = 0.0
        x = widened(inputs[0], self.channels)
        if self.step.bypassed:
            y = before = self.late(x, self.late_by)
            return y if self.scope_monitor is None else self.scope_monitor.compare(before, y, self.latency_frames)
        y = self.joined(inputs[1:], frames)
        self._tell(x, y)
        if self.scope_monitor is None and self.fade is None:
            self.late.remember(x, self.late_by)
            return y
        before = self.late(x, self.late_by)
        if self.fade is not None:
            y = self.fade(at, before, y)
        return y if self.scope_monitor is None else self.scope_monitor.compare(before, y, self.latency_frames)

    def joined(self, lanes: Sequence[Audio], frames: int) -> Audio:
        y = np.zeros((self.channels, frames), np.float32)
        for lane, inputs in zip(self.step.lanes, lanes, strict=True):
            if lane.output is None:
                mix.accumulate(inputs, y)
        return y

    def cache_key(self) -> tuple[object, ...]:
        fade = None if self.fade is None else self.fade.cache_key()
        return self.step.bypassed, self.late_by, [lane.output is None for lane in self.step.lanes], fade

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

    def __init__(self, end: Node, gains: Gains, fader: Glide, rate: int, moving: Moving[Gains] | None = None) -> None:
        super().__init__([end], end.latency_frames, 2)
        self.gains, self.fader, self.rate, self.moving = gains, fader, rate, moving

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        y = np.empty((2, frames), np.float32)
        place(inputs[0], y, self.gains, self.moving, at, glide_part(self.rate), self.fader)
        return y

    def cache_key(self) -> tuple[object, ...]:
        return self.gains, moves_of(self.moving)


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
    def gains(self) -> Gains:
        return self.out.gains

    def walk(self) -> Iterator[StepNode]:
        """Every step, those in lanes too."""
        for step in self.steps:
            yield from step.walk()

    def levels_db(self) -> tuple[float, float]:
        """Sample peaks of the last block as it enters the path and as it leaves the strip, in dBFS."""
        return gain_to_db(float(mix.peak(self.entry.out))), gain_to_db(float(mix.peak(self.output)))
