"""What leaves a split, and what happens to its lanes between: divided, treated, placed in the sum."""

from collections.abc import Iterator, Mapping, Sequence

import numpy as np

from saltanvil.dsp import mix
from saltanvil.dsp.glide import glide_part
from saltanvil.dsp.units import SILENCE_DB, gain_to_db
from saltanvil.engine.automation import Moving
from saltanvil.engine.nodes.base import Node, widened
from saltanvil.engine.nodes.gains import BypassFade, Gains, moves_of, place
from saltanvil.engine.nodes.step import StepNode
from saltanvil.engine.rack import Audio, DelayLine, Glide, Rack
from saltanvil.processors import Settings
from saltanvil.processors.base import Context, sanitised
from saltanvil.processors.split import Split
from saltanvil.session.document.path import Lane


class DividedNode(Node):
    """What a split makes of its input: the lanes' inputs, one after the other along the channels."""

    moving: Moving[Settings] | None = None

    def __init__(self, processor: Split, settings: Settings, source: Node, latency_frames: int, channels: int) -> None:
        super().__init__([source], latency_frames, channels, processor.settings.by != "copies")
        self.split, self.settings = processor, settings

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        x = sanitised(widened(inputs[0], self.channels))
        self.split.glides_for(0)
        if self.moving is None:
            self.split.follows = None
            return self.split.divide(x).reshape(-1, frames)
        if self.split.follows is not self.moving:
            self.moving.leads(self.split)
        parts: list[Audio] = []
        for begin, end, settings, ticks in self.moving.pieces(at, frames):
            self.split.take(settings, self.split.context)
            self.split.glides_for(ticks)
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
        self, lane: Lane, last: Node, entry: Node, steps: list[StepNode], delay_line: DelayLine, fade: BypassFade | None = None
    ) -> None:
        super().__init__([last, entry], last.latency_frames, last.channels, stored=lane.bypassed or fade is not None)
        self.lane, self.steps, self.delay_line, self.fade = lane, steps, delay_line, fade
        self.latency = last.latency_frames - entry.latency_frames

    def carry_on(self, context: Context, replaced: Mapping[int, Node]) -> None:
        super().carry_on(context, replaced)
        steps = (replaced.get(id(step), step) for step in self.steps)
        self.steps = [step for step in steps if isinstance(step, StepNode)]

    def make(self, at: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        entered = widened(inputs[1], self.channels)
        if self.lane.bypassed:
            return self.delay_line(entered, self.latency)
        if self.fade is not None:
            return self.fade(at, self.delay_line(entered, self.latency), widened(inputs[0], self.channels))
        self.delay_line.remember(entered, self.latency)
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
            self.sides = moving.mapped(lambda gains: (gains[0] * gains[1] * place[0], gains[0] * gains[1] * place[1]))
            self.by_share = moving.mapped(lambda gains: (gains[1] * place[0], gains[1] * place[1]))
            self.by_level = moving.mapped(lambda gains: (gains[0] * place[0], gains[0] * place[1]))
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
            delayed = scope_monitor.rack.delay_line(len(entered), self.lane.id, "lane before")(
                entered, self.latency_frames - self.sources[1].latency_frames
            )
            y = scope_monitor.compare(self._in_place(delayed, self.share, self.by_share, at), y, self.latency_frames)
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
        self.peak_change_db = 0.0
        x = widened(inputs[0], self.channels)
        if self.step.bypassed:
            y = before = self.delay_line(x, self.delay_frames)
            return y if self.scope_monitor is None else self.scope_monitor.compare(before, y, self.latency_frames)
        y = self.joined(inputs[1:], frames)
        self._tell(x, y)
        if self.scope_monitor is None and self.fade is None:
            self.delay_line.remember(x, self.delay_frames)
            return y
        before = self.delay_line(x, self.delay_frames)
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
        return self.step.bypassed, self.delay_frames, [lane.output is None for lane in self.step.lanes], fade

    def walk(self) -> Iterator[StepNode]:
        yield self
        for lane in self.lanes:
            for step in lane.steps:
                yield from step.walk()
