"""A session compiled to nodes in dependency order, with every path aligned to the sample.

        track:  media --> trim --> step ... step --> level, pan --+
        track:  media --> trim --> step ... step --> level, pan --+--(delays)--> bus: trim --> steps --> level --> main
                                    |                             |
                                    +-- a lane sent to a bus -----+

Every step declares its latency; strips that meet are delayed to the latest. A bypassed step is a delay of its latency.
"""

import math
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np

from saltanvil.dsp import mix
from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.dsp.units import db_to_gain, gain_to_db
from saltanvil.engine.rack import Audio, Glide, Late, Rack
from saltanvil.engine.steps import (
    Audition,
    Hearing,
    LaneNode,
    Listening,
    Scope,
    SplitNode,
    StepCompiler,
    StepNode,
    form_of,
)
from saltanvil.processors.base import Context, glide_part
from saltanvil.session.document import MAIN_ID, Session, Strip

__all__ = ["Audio", "Audition", "Listening", "Plan", "Rack", "Scope", "StepNode", "compile_plan"]

#: Played before what is wanted, so that detectors have settled; the same live and offline, so that the samples agree.
PREROLL_S = 2.0
LEVEL_OFF_DB = -90.0


class Media(Protocol):
    """Where tracks get their sound from, at the session's rate."""

    def channels(self, media_id: int) -> int: ...

    def frames(self, media_id: int) -> int: ...

    def read(self, media_id: int, start: int, frames: int) -> Audio:
        """(channels, frames), C-contiguous; silence outside the media."""
        ...


@dataclass
class Meter:
    """Sample peaks of a strip's block after trim and after the fader, in dBFS."""

    in_db: float
    out_db: float


@dataclass
class Feed:
    """What reaches a strip: the output of another, or (lane) a lane of its path. heard: whether solo lets it through."""

    node: "Node"
    late: Late
    lane: LaneNode | None = None
    leaves: int = 0
    glide: Glide | None = None
    heard: bool = True

    @property
    def latency(self) -> int:
        return self.node.latency if self.lane is None else self.leaves

    def sound(self) -> Audio:
        """The last block, (2, frames)."""
        if self.lane is None:
            return self.node.output
        assert self.lane.sent is not None
        return self.placed(self.lane.sent)

    def placed(self, sent: Audio) -> Audio:
        """A lane at the level and pan of its strip."""
        assert self.glide is not None
        y = np.empty((2, sent.shape[1]), np.float32)
        mix.place(sent, y, *self.gains(), glide_part(self.node.rate), self.glide.state)
        return y

    def gains(self) -> tuple[float, float]:
        return self.node.gains() if self.heard else (0.0, 0.0)


@dataclass
class Node:
    """One strip at work."""

    strip: Strip
    channels: int
    rate: int
    steps: list[StepNode]
    inputs: list[Feed]
    trim: Glide
    fader: Glide
    late: Late
    heard: bool
    latency_in: int = 0
    output: Audio = field(default_factory=lambda: np.zeros((2, 0), np.float32))
    meter: Meter = field(default_factory=lambda: Meter(-160.0, -160.0))

    @property
    def path_latency(self) -> int:
        return sum(step.late_by for step in self.steps)

    @property
    def latency(self) -> int:
        return self.latency_in + self.path_latency

    def gains(self) -> tuple[float, float]:
        """Left and right: equal power for a mono track, balance for a stereo strip (see `Strip`)."""
        level = 0.0 if not self.heard or self.strip.level_db <= LEVEL_OFF_DB else db_to_gain(self.strip.level_db)
        angle = (self.strip.pan + 1.0) * math.pi / 4.0
        left, right = math.cos(angle), math.sin(angle)
        if self.channels == 2:
            left, right = (1.0, 1.0) if self.strip.pan == 0.0 else (min(1.0, math.sqrt(2) * left), min(1.0, math.sqrt(2) * right))
        return level * left, level * right

    def walk(self) -> Iterator[StepNode]:
        """Every step, those in lanes too."""
        for step in self.steps:
            yield from step.walk()

    def gather(self, media: Media, start: int, frames: int, inputs: Sequence[Audio]) -> Audio:
        """What enters the path: media, or the sum of the inputs aligned to the latest, then the trim."""
        if self.strip.media_id is not None:
            x = media.read(self.strip.media_id, start - round(self.strip.start_s * self.rate), frames)
        else:
            x = np.zeros((self.channels, frames), np.float32)
            for feed, given in zip(self.inputs, inputs, strict=True):
                by = self.latency_in - feed.latency
                mix.accumulate(feed.late(given, by) if by or feed.latency else given, x)
        trim = db_to_gain(self.strip.trim_db)
        if trim != 1.0 or self.trim.state[mix.PRIMED]:
            y = np.empty_like(x)
            mix.place(x, y, trim, trim, glide_part(self.rate), self.trim.state)
            return y
        return x

    def place(self, x: Audio) -> Audio:
        """Level and pan, to stereo."""
        y = np.empty((2, x.shape[1]), np.float32)
        mix.place(x, y, *self.gains(), glide_part(self.rate), self.fader.state)
        return y


@dataclass
class Plan:
    """The compiled session. Blocks start on ticks and are whole ticks long."""

    session: Session
    media: Media
    rack: Rack
    audition: Audition
    nodes: list[Node]
    generations: list[list[Node]]

    @property
    def latency_frames(self) -> int:
        return self.nodes[-1].latency

    def node(self, strip_id: str) -> Node:
        return next(node for node in self.nodes if node.strip.id == strip_id)

    def render(self, start: int, frames: int, pool: ThreadPoolExecutor | None = None) -> Audio:
        """The next block: what the listener hears, (2, frames), `latency_frames` late. Blocks must follow each other."""
        tap: list[Audio] = []
        for generation in self.generations:
            if pool is None or len(generation) == 1:
                for node in generation:
                    self._run(node, start, frames, tap)
            else:
                list(pool.map(lambda node: self._run(node, start, frames, tap), generation))
        return tap[0] if tap else self.nodes[-1].output

    def _run(self, node: Node, start: int, frames: int, tap: list[Audio]) -> None:
        x = node.gather(self.media, start, frames, [feed.sound() for feed in node.inputs])
        entering, in_peak = x, gain_to_db(float(mix.peak(x)))
        hearing = None
        if self.audition.scope.strip_id == node.strip.id:
            hearing = Hearing(self.audition, self.rack, node.rate, lambda sound, late: self._alone(node, sound, late, tap))
        for step in node.steps:
            x = step.process(x, hearing)
        if node.path_latency:
            entering = node.late(entering, node.path_latency)
        if hearing is not None and hearing.is_about(None):
            x = hearing.compare(entering, x, node.latency)
        node.output = node.place(x)
        node.meter = Meter(in_peak, gain_to_db(float(mix.peak(node.output))))

    def _alone(self, node: Node, x: Audio, late: int, tap: list[Audio]) -> None:
        """Straight to the ear, at the strip's level and pan, in time with everything else."""
        heard = np.empty((2, x.shape[1]), np.float32)
        mix.place(x, heard, *node.gains(), 1.0, self.rack.glide("taken").state)
        tap.append(self.rack.late(2, "taken")(heard, self.latency_frames - late))


def structure_of(session: Session, audition: Audition) -> tuple[object, ...]:
    """What cannot change without a crossfade; all else glides."""
    strips = tuple(
        (strip.id, strip.output, strip.media_id, strip.start_s, form_of(strip.path, session.rate_hz)) for strip in session.strips
    )
    return strips, audition.scope, audition.listening


def audible(session: Session, strip: Strip, solo: bool, target: str | None = None) -> bool:
    """Whether mute and solo let a strip through to a strip it feeds (its output, unless another target is named).

    Solo is decided at the tracks: buses pass what reaches them. A track that is not soloed itself is heard where a
    soloed bus lies on its way.
    """
    if strip.mute:
        return False
    soloed = {other.id for other in session.strips if other.solo and other.kind != "main"}
    if not solo or strip.kind != "track" or not soloed or strip.id in soloed:
        return True
    ahead = [target if target is not None else strip.output]
    while ahead:
        at = ahead.pop()
        if at in soloed:
            return True
        if at is not None:
            ahead.extend(session.strip(at).targets())
    return False


def compile_plan(session: Session, media: Media, rack: Rack, audition: Audition = Audition(), only: str | None = None) -> Plan:
    """Compile a session, or only the strips that feed the strip `only`, taking over whatever state the rack holds."""
    context = Context(rate=session.rate_hz, tempo_bpm=session.tempo_bpm)
    steps = StepCompiler(rack, context, audition, heard_alone(session, audition))
    made: dict[str, tuple[Node, int]] = {}
    nodes: list[Node] = []
    generations: list[list[Node]] = []

    def feeds_of(strip: Strip) -> Iterator[tuple[Strip, str | None]]:
        for other in session.strips:
            if other.output == strip.id:
                yield other, None
            yield from ((other, lane.id) for lane in other.path.lanes() if lane.output == strip.id)

    def visit(strip: Strip) -> tuple[Node, int]:
        if strip.id in made:
            return made[strip.id]
        inputs: list[Feed] = []
        depth = 0
        for other, lane_id in feeds_of(strip):
            child, below = visit(other)
            depth = max(depth, below + 1)
            if lane_id is None:
                inputs.append(Feed(child, rack.late(2, "feed", other.id, strip.id)))
                continue
            split, lane = next(
                (step, lane)
                for step in child.walk()
                if isinstance(step, SplitNode)
                for lane in step.lanes
                if lane.lane.id == lane_id
            )
            inputs.append(
                Feed(
                    child,
                    rack.late(2, "feed", lane_id, strip.id),
                    lane,
                    split.leaves,
                    rack.glide("feed", lane_id, strip.id),
                    audible(session, other, audition.solo, strip.id),
                )
            )
        channels = media.channels(strip.media_id) if strip.media_id is not None else (1 if strip.kind == "track" else 2)
        enters = max((feed.latency for feed in inputs), default=0)
        node = Node(
            strip=strip,
            channels=channels,
            rate=session.rate_hz,
            steps=steps.path(strip.path, channels, enters),
            inputs=inputs,
            trim=rack.glide("trim", strip.id),
            fader=rack.glide("fader", strip.id),
            late=rack.late(channels, "strip", strip.id),
            heard=audible(session, strip, audition.solo),
            latency_in=enters,
        )
        nodes.append(node)
        while len(generations) <= depth:
            generations.append([])
        generations[depth].append(node)
        made[strip.id] = node, depth
        return node, depth

    rack.used.clear()
    visit(session.strip(only or MAIN_ID))
    rack.drop_unused()
    return Plan(session, media, rack, audition, nodes, generations)


def heard_alone(session: Session, audition: Audition) -> str | None:
    """The lane that *only* lets through: the scope itself, or the lane its step stands in."""
    scope = audition.scope
    if audition.listening != "only" or (scope.step_id is None and scope.lane_id is None):
        return None
    try:
        return scope.lane_id if scope.step_id is None else session.step(scope.step_id).lane_id
    except LookupError:
        return None


def floor_tick(frame: int) -> int:
    """The tick at or before a frame."""
    return frame // TICK_FRAMES * TICK_FRAMES


def ceil_tick(frame: int) -> int:
    """The tick at or after a frame."""
    return -(-frame // TICK_FRAMES) * TICK_FRAMES


def preroll_start(start: int, rate: int) -> int:
    """Where rendering begins so that `start` is reached settled."""
    return max(0, floor_tick(start - round(PREROLL_S * rate)))


def session_frames(session: Session, media: Media) -> int:
    """Length of the longest track, at least one second."""
    ends = [
        round(strip.start_s * session.rate_hz) + media.frames(strip.media_id)
        for strip in session.strips
        if strip.media_id is not None
    ]
    return max([session.rate_hz, *ends])
