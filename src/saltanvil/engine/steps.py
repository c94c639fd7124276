"""Steps at work: processors, and splits with their lanes, aligned to the sample.

     +--> lane: step ... step --> (delay to the latest lane) --> level, polarity --+
x ---+                                                                              +--> sum --> y
     +--> lane: step ... step --> (delay to the latest lane) --> level, polarity --+
"""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np

from saltanvil.dsp import mix
from saltanvil.dsp.gate import DOORS
from saltanvil.dsp.units import db_to_gain, gain_to_db
from saltanvil.engine.rack import Audio, Glide, Late, Rack
from saltanvil.processors import Processor, processor_named
from saltanvil.processors.base import Context, Telemetry, glide_part, sensible
from saltanvil.processors.split import Split
from saltanvil.session.blend import lane_levels, lane_shares
from saltanvil.session.document import MAIN_ID, Lane, Path, Step

#: *key* is what the detector of the scope's step hears; *only* lets the scope's lane through alone.
Listening = Literal["before", "after", "taken", "key", "only"]
#: Below this a change of level is not worth telling.
SOUNDING_DB = -60.0


@dataclass(frozen=True)
class Scope:
    """What is compared: a step, a lane, or a whole strip's path."""

    strip_id: str = MAIN_ID
    step_id: str | None = None
    lane_id: str | None = None


@dataclass(frozen=True)
class Audition:
    """How a plan is listened to. `matched_db` goes on *before*, so that *after* is always what will be rendered."""

    scope: Scope = Scope()
    listening: Listening = "after"
    matched_db: float = 0.0
    solo: bool = True


@dataclass
class Hearing:
    """What the listener wants of the strip that holds the scope, for one block.

    straight: takes a sound past all later steps to the ear; it is told by how many frames that sound is late.
    """

    audition: Audition
    rack: Rack
    rate: int
    straight: Callable[[Audio, int], None]

    def is_about(self, step_id: str | None, lane_id: str | None = None) -> bool:
        scope = self.audition.scope
        return (scope.step_id, scope.lane_id) == (step_id, lane_id)

    def compare(self, before: Audio, after: Audio, late: int) -> Audio:
        """What goes on from the scope. *Taken* goes straight to the ear."""
        if self.audition.listening == "before":
            y = np.empty_like(before)
            gain = db_to_gain(self.audition.matched_db)
            mix.place(before, y, gain, gain, glide_part(self.rate), self.rack.glide("matched").state)
            return y
        if self.audition.listening == "taken":
            self.straight(before - after, late)
        return after


@dataclass
class StepNode:
    """late_by: the step's latency; leaves: how late its output is within the strip."""

    step: Step
    processor: Processor
    late: Late
    late_by: int
    leaves: int
    #: Change of peak level over the last block, for steps whose telemetry does not say what they do.
    moved_db: float = 0.0

    def process(self, x: Audio, hearing: Hearing | None = None, key: Audio | None = None) -> Audio:
        """Treat a block. key: what a detector hears instead of x."""
        if self.step.bypass:
            self.processor.telemetry = Telemetry()
            self.moved_db = 0.0
            y = before = self.before(x)
        else:
            y = self.treat(x, hearing, key)
            if not len(self.processor.telemetry.reduction_db):
                entered = gain_to_db(float(mix.peak(x)))
                self.moved_db = gain_to_db(float(mix.peak(y))) - entered if entered > SOUNDING_DB else 0.0
            before = self.before(x)  # remembered also where it is not asked for, so that a bypass finds its past
        if hearing is None or not hearing.is_about(self.step.id):
            return y
        key = self.processor.heard if self.processor.listens and not self.step.bypass else None
        if hearing.audition.listening == "key" and key is not None:
            hearing.straight(hearing.rack.late(len(key), "key")(key, self.late_by), self.leaves)
        return hearing.compare(before, y, self.leaves)

    def treat(self, x: Audio, hearing: Hearing | None, key: Audio | None) -> Audio:
        return self.processor.process(x, key)

    def walk(self) -> Iterator["StepNode"]:
        """The step, and those in its lanes."""
        yield self

    @property
    def change_db(self) -> float:
        """The largest change of gain in the last block, negative where it fell."""
        told = self.processor.telemetry.reduction_db
        return -float(told[np.abs(told).argmax()]) if len(told) else self.moved_db

    @property
    def door(self) -> str | None:
        """Where the door stands, for a step that has one."""
        row = self.processor.telemetry.rows.get("door")
        return None if row is None or not len(row) else DOORS[int(row[-1])]

    def before(self, x: Audio) -> Audio:
        """The input, as late as the output."""
        return self.late(x, self.late_by) if self.late_by else x


@dataclass
class LaneNode:
    """A lane at work. place: gains to both sides of the sum; level: of the lane itself; share: what a blend gives it;
    wait: frames until the latest lane."""

    lane: Lane
    steps: list[StepNode]
    latency: int
    place: tuple[float, float]
    level: float
    share: float
    rate: int
    leaves: int
    past: Late
    waiting: Late
    glide: Glide
    wait: int = 0
    #: What the lane's bus gets, where it has one; peak of what left it, in dBFS.
    sent: Audio | None = None
    peak_db: float = -160.0

    def through(self, x: Audio, hearing: Hearing | None = None) -> Audio:
        """The lane's path; a lane bypassed is a delay."""
        before = self.past(x, self.latency) if self.latency else x
        for step in self.steps:
            x = step.process(x, hearing)
        return before if self.lane.bypass else x

    def placed(self, x: Audio, channels: int) -> Audio:
        """In the sum, at the lane's level, as late as the latest lane."""
        x = self.waiting(x, self.wait) if self.wait else x
        y = np.empty((channels, x.shape[1]), np.float32)
        left, right = self.place
        gain = self.level * self.share
        mix.place(x, y, gain * left, gain * right, glide_part(self.rate), self.glide.state)
        return y

    def untouched(self, x: Audio, channels: int, rack: Rack) -> Audio:
        """What enters the lane, at its share of the sum: what its output is compared to."""
        by = self.latency + self.wait
        late = rack.late(len(x), self.lane.id, "lane before")(x, by) if by else x
        y = np.empty((channels, x.shape[1]), np.float32)
        left, right = self.place
        mix.place(late, y, self.share * left, self.share * right, 1.0, np.zeros(mix.GLIDE_STATE))
        return y


@dataclass
class SplitNode(StepNode):
    lanes: list[LaneNode] = field(default_factory=list)
    rack: Rack = field(default_factory=Rack)

    @property
    def split(self) -> Split:
        assert isinstance(self.processor, Split)
        return self.processor

    def divide(self, x: Audio) -> list[Audio]:
        """What enters each lane."""
        found = self.split.divide(sensible(x))
        return found * len(self.lanes) if len(found) == 1 else found

    def treat(self, x: Audio, hearing: Hearing | None, key: Audio | None) -> Audio:
        return self.joined(
            [
                self.lane(lane, np.ascontiguousarray(given), len(x), hearing)
                for lane, given in zip(self.lanes, self.divide(x), strict=True)
            ]
        )

    def lane(self, lane: LaneNode, given: Audio, channels: int, hearing: Hearing | None) -> Audio:
        y = lane.placed(lane.through(given, hearing), channels)
        if hearing is not None and hearing.is_about(None, lane.lane.id):
            y = hearing.compare(lane.untouched(given, channels, self.rack), y, self.leaves)
        lane.peak_db = gain_to_db(float(mix.peak(y)))
        lane.sent = y if lane.lane.output is not None else None
        return y

    def joined(self, lanes: Sequence[Audio]) -> Audio:
        """The sum of the lanes that go to no bus."""
        y = np.zeros_like(lanes[0])
        for lane, given in zip(self.lanes, lanes, strict=True):
            if lane.lane.output is None:
                mix.accumulate(given, y)
        return y

    def walk(self) -> Iterator[StepNode]:
        yield self
        for lane in self.lanes:
            for step in lane.steps:
                yield from step.walk()


@dataclass(frozen=True)
class StepCompiler:
    """Makes the steps of one session at work, taking over whatever state the rack holds.

    only: the lane that is heard alone.
    """

    rack: Rack
    context: Context
    audition: Audition
    only: str | None = None

    def path(self, path: Path, channels: int, enters: int) -> list[StepNode]:
        """enters: how late the sound is when it enters the path."""
        nodes: list[StepNode] = []
        for step in path.steps:
            nodes.append(self.split(step, channels, enters) if step.lanes else self.step(step, channels, enters))
            enters = nodes[-1].leaves
        return nodes

    def step(self, step: Step, channels: int, enters: int) -> StepNode:
        processor = self.rack.processor(step, channels, self.context)
        by = processor.latency_of(step.settings, self.context.rate)
        return StepNode(step, processor, self.rack.late(channels, "step", step.id), by, enters + by)

    def split(self, step: Step, channels: int, enters: int) -> SplitNode:
        rack, rate = self.rack, self.context.rate
        processor = rack.processor(step, channels, self.context)
        assert isinstance(processor, Split) and step.split is not None
        own = processor.latency_of(step.settings, rate)
        inside = 1 if step.split.by in ("mid/side", "left/right") else channels
        lanes = []
        levels = lane_levels(step, self.audition.solo, self.only)
        places = processor.places(step.split.by, channels, len(step.lanes))
        for lane, level, share, place in zip(step.lanes, levels, lane_shares(step), places, strict=True):
            steps = self.path(lane.path, inside, enters + own)
            late, waiting = rack.late(inside, "lane", lane.id), rack.late(inside, "lane waits", lane.id)
            latency = sum(node.late_by for node in steps)
            glide = rack.glide("lane", lane.id)
            lanes.append(LaneNode(lane, steps, latency, place, level, share, rate, enters + own + latency, late, waiting, glide))
        longest = max(lane.latency for lane in lanes)
        for node in lanes:
            node.wait = longest - node.latency
        by = own + longest
        return SplitNode(step, processor, rack.late(channels, "step", step.id), by, enters + by, lanes=lanes, rack=rack)


def form_of(path: Path, rate: int) -> tuple[object, ...]:
    """What of a path cannot change without a crossfade; all else glides."""
    found: list[object] = []
    for step in path.steps:
        kind = processor_named(step.kind)
        lanes = tuple((lane.id, lane.bypass, lane.output, form_of(lane.path, rate)) for lane in step.lanes)
        found.append((step.id, step.kind, step.bypass, kind.latency_of(step.settings, rate), kind.form_of(step.settings), lanes))
    return tuple(found)
