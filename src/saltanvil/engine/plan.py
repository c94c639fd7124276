"""A session compiled to points in the order they can be made, with every sound and every key aligned to the sample.

        track:  media --> trim --> step ... step --> level, pan --+
        track:  media --> trim --> step ... step --> level, pan --+--(delays)--> bus: trim --> steps --> level --> main
                                    |   ^            |            |
                                    |   key          +-- a send --+
                                    +------- a lane sent to a bus-+

Every step declares its latency; strips that meet, lanes and keys are delayed to the latest. A bypassed step is a delay
of its latency.
"""

import math
from collections.abc import Iterable, Iterator
from concurrent.futures import Executor
from dataclasses import dataclass

from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.dsp.units import db_to_gain
from saltanvil.engine.latency import Latencies, settings_at_work
from saltanvil.engine.points import (
    NOTHING,
    Audition,
    DividedNode,
    EndNode,
    Entry,
    Feed,
    Hearing,
    KeyFeed,
    LaneEntry,
    LaneNode,
    Listening,
    Media,
    Node,
    OutNode,
    PlacedNode,
    Scope,
    SplitNode,
    StepNode,
    StripNode,
)
from saltanvil.engine.rack import Audio, Rack
from saltanvil.engine.spread import spread
from saltanvil.processors import processor_named
from saltanvil.processors.base import Context
from saltanvil.processors.split import Split
from saltanvil.session.blend import OFF_DB, lane_levels, lane_shares
from saltanvil.session.document import MAIN_ID, Key, Path, Session, Step, Strip
from saltanvil.session.graph import Graph, Point

__all__ = ["Audio", "Audition", "Listening", "Media", "Plan", "Rack", "Scope", "StepNode", "compile_plan"]

#: Played before what is wanted, so that detectors have settled; the same live and offline, so that the samples agree.
PREROLL_S = 2.0


@dataclass
class Plan:
    """The compiled session. Blocks start on ticks and are whole ticks long.

    order: the points, each after its sources; strips: those that are made, in that order.
    """

    session: Session
    media: Media
    rack: Rack
    audition: Audition
    graph: Graph
    points: dict[Point, Node]
    strips: dict[str, StripNode]
    tap: list[Audio]

    @property
    def latency_frames(self) -> int:
        return self.strips[MAIN_ID].latency

    def node(self, strip_id: str) -> StripNode:
        return self.strips[strip_id]

    def walk(self) -> Iterator[StepNode]:
        """Every step that is at work."""
        for strip in self.strips.values():
            yield from strip.walk()

    def render(self, start: int, frames: int, pool: Executor | None = None) -> Audio:
        """The next block: what the listener hears, (2, frames), `latency_frames` late. Blocks must follow each other."""
        self.tap.clear()
        if pool is None:
            for node in self.points.values():
                node.run(start, frames)
        else:
            spread(list(self.points.values()), lambda node: node.run(start, frames), pool, forget)
        return self.tap[0] if self.tap else self.strips[MAIN_ID].output

    def hear(self) -> None:
        """Let the scope's point know who listens."""
        scope = self.audition.scope
        at = (
            Point("step", scope.step_id)
            if scope.step_id is not None
            else Point("placed", scope.lane_id)
            if scope.lane_id is not None
            else Point("end", scope.strip_id)
        )
        if at in self.points and scope.strip_id in self.strips and MAIN_ID in self.strips:
            strip = self.strips[scope.strip_id]
            self.points[at].hearing = Hearing(
                self.audition, self.rack, self.session.rate_hz, lambda sound, late: self._alone(strip, sound, late)
            )

    def _alone(self, strip: StripNode, x: Audio, late: int) -> None:
        """Straight to the ear, at the strip's level and pan, in time with everything else."""
        heard = OutNode(strip.end, strip.gains, self.rack.glide("taken"), self.session.rate_hz).make(0, x.shape[1], [x])
        self.tap.append(self.rack.late(2, "taken")(heard, self.latency_frames - late))


def forget(node: Node) -> None:
    """Let go of a block that nothing needs any more; what leaves the strips stays."""
    if not isinstance(node, OutNode):
        node.out = NOTHING


def structure_of(session: Session, audition: Audition) -> tuple[object, ...]:
    """What cannot change without a crossfade; all else glides."""
    strips = tuple(
        (
            strip.id,
            strip.output,
            strip.media_id,
            strip.start_s,
            [(send.id, send.target) for send in strip.sends],
            form_of(session, strip.path),
        )
        for strip in session.strips
    )
    return strips, audition.scope, audition.listening


def form_of(session: Session, path: Path) -> tuple[object, ...]:
    """What of a path cannot change without a crossfade."""
    found: list[object] = []
    for step in path.steps:
        kind, settings = processor_named(step.kind), settings_at_work(session, step)
        lanes = tuple((lane.id, lane.bypass, lane.output, form_of(session, lane.path)) for lane in step.lanes)
        key = None if step.key is None else (step.key.strip_id, step.key.step_id, step.key.lane_id, step.key.at)
        latency = kind.latency_of(settings, session.rate_hz)
        found.append((step.id, step.kind, step.bypass, latency, kind.form_of(settings), key, lanes))
    return tuple(found)


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
    ahead, seen = [target if target is not None else strip.output], set()
    while ahead:
        at = ahead.pop()
        if at in soloed:
            return True
        if at is not None and at not in seen:
            seen.add(at)
            ahead.extend(session.strip(at).targets())
    return False


def pan_gains(strip: Strip, channels: int) -> tuple[float, float]:
    """Left and right: equal power for a mono track, balance for a stereo strip (see `Strip`)."""
    angle = (strip.pan + 1.0) * math.pi / 4.0
    left, right = math.cos(angle), math.sin(angle)
    if channels == 2:
        return (1.0, 1.0) if strip.pan == 0.0 else (min(1.0, math.sqrt(2) * left), min(1.0, math.sqrt(2) * right))
    return left, right


def level_gain(level_db: float) -> float:
    return 0.0 if level_db <= OFF_DB else db_to_gain(level_db)


def compile_plan(
    session: Session,
    media: Media,
    rack: Rack,
    audition: Audition = Audition(),
    only: str | None = None,
    also: Iterable[Point] = (),
) -> Plan:
    """Compile a session, or only what the strip `only` needs, taking over whatever state the rack holds.

    also: points that are made even if nothing else needs them, such as those in a bypassed split.
    """
    rack.used.clear()
    compiler = Compiler(session, media, rack, audition)
    wanted = [Point("out", strip.id) for strip in session.strips] if only is None else [Point("out", only)]
    for point in compiler.graph.needed([*wanted, *(point for point in also if point in compiler.graph.sources)]):
        compiler.points[point] = compiler.made(point)
    plan = compiler.plan()
    plan.hear()
    rack.drop_unused()
    return plan


class Compiler:
    """Makes the points of one session."""

    def __init__(self, session: Session, media: Media, rack: Rack, audition: Audition) -> None:
        self.session, self.media, self.rack, self.audition = session, media, rack, audition
        self.rate = session.rate_hz
        self.context = Context(rate=session.rate_hz, tempo_bpm=session.tempo_bpm)
        self.graph = Graph(session)
        self.late = Latencies(self.graph)
        self.points: dict[Point, Node] = {}
        self.only = heard_alone(session, audition)
        #: A split's divider, and the gains of its lanes, each for the sum's sides.
        self.lanes = {lane.id: (lane, index) for strip in session.strips for step in strip.path.walk()
                      for index, lane in enumerate(step.lanes)}  # fmt: skip

    def plan(self) -> Plan:
        strips = {}
        for point, node in self.points.items():
            if point.kind == "end":
                entry, out = self.points.get(Point("in", point.id)), self.points.get(Point("out", point.id))
                assert isinstance(node, EndNode) and isinstance(entry, Entry)
                strip = self.graph.strip_of[point]
                if not isinstance(out, OutNode):  # only a key is taken from it
                    out = self.out(strip, node)
                strips[point.id] = StripNode(strip, entry, node, out, self.steps(strip.path))
        return Plan(self.session, self.media, self.rack, self.audition, self.graph, self.points, strips, [])

    def steps(self, path: Path) -> list[StepNode]:
        found = []
        for step in path.steps:
            node = self.points.get(Point("step", step.id))
            if isinstance(node, StepNode):
                found.append(node)
        return found

    def made(self, point: Point) -> Node:
        edges = self.graph.sources[point]
        leaves = self.late.leaves[point]
        strip = self.graph.strip_of[point]
        if point.kind == "in":
            return self.entry(strip, point)
        sources = [self.points[edge.source] for edge in edges if edge.source in self.points]
        if point.kind == "end":
            return EndNode(sources[0], sources[1], self.rack.late(sources[0].channels, "strip", strip.id))
        if point.kind == "out":
            return self.out(strip, sources[0])
        if point.kind == "step":
            return self.step(self.graph.steps[point.id], point, sources, leaves)
        if point.kind == "divided":
            step = self.graph.steps[point.id]
            return DividedNode(self.split(step, sources[0].channels), settings_at_work(self.session, step), sources[0], leaves)
        lane, index = self.lanes[point.id]
        step = self.graph.steps[point.id]
        assert step.split is not None
        if point.kind == "enter":
            channels = 1 if step.split.by in ("mid/side", "left/right") else sources[0].channels
            return LaneEntry(0 if step.split.by == "copies" else index, sources[0], channels)
        if point.kind == "lane":
            late = self.rack.late(sources[1].channels, "lane", lane.id)
            return LaneNode(lane, sources[0], sources[1], self.steps(lane.path), late)
        node = sources[0]
        assert isinstance(node, LaneNode)
        channels = self.points[Point("divided", step.id)].channels
        place = self.split(step, channels).places(step.split.by, channels, len(step.lanes))[index]
        level = lane_levels(step, self.audition.solo, self.only)[index]
        return PlacedNode(node, sources[1], leaves, channels, place, level, lane_shares(step)[index], self.rack, self.rate)

    def split(self, step: Step, channels: int) -> Split:
        made = self.rack.processor(step, settings_at_work(self.session, step), channels, self.context)
        assert isinstance(made, Split)
        return made

    def step(self, step: Step, point: Point, sources: list[Node], leaves: int) -> StepNode:
        settings, channels = settings_at_work(self.session, step), sources[0].channels
        processor = self.rack.processor(step, settings, channels, self.context)
        if step.lanes:
            late_by = leaves - sources[0].leaves
            split = SplitNode(step, settings, processor, sources, leaves, channels, late_by, 0, self.rack)
            split.placed = [node for node in sources[1:] if isinstance(node, PlacedNode)]
            split.lanes = [node for placed in split.placed for node in placed.sources[:1] if isinstance(node, LaneNode)]
            return split
        wait = self.late.wait(point)
        key = None
        if step.key is not None:
            key = KeyFeed(
                wait=leaves - self.late.own[step.id] - sources[1].leaves,
                gain=0.0 if step.key.mutes and self.muted(point, step.key) else db_to_gain(step.key.trim_db),
                late=self.rack.late(channels, "key", step.id),
                glide=self.rack.glide("key", step.id),
            )
        return StepNode(step, settings, processor, sources, leaves, channels, self.late.own[step.id], wait, self.rack, key)

    def muted(self, point: Point, key: Key) -> bool:
        """Whether what a key is taken from is muted: its strip, or the lane itself."""
        source = self.graph.heard_at(self.graph.strip_of[point], key)
        lane = self.lanes.get(source.id)
        return self.graph.strip_of[source].mute or (lane is not None and lane[0].mute)

    def out(self, strip: Strip, end: Node) -> OutNode:
        level = level_gain(strip.level_db) if audible(self.session, strip, self.audition.solo) else 0.0
        if self.audition.order[0] == strip.id:
            level *= db_to_gain(self.audition.order[1])
        left, right = pan_gains(strip, end.channels)
        return OutNode(end, (level * left, level * right), self.rack.glide("fader", strip.id), self.rate)

    def entry(self, strip: Strip, point: Point) -> Entry:
        feeds: list[tuple[str, Node, Feed]] = []
        leaves = self.late.leaves[point]
        for source, way in self.graph.sources[point]:
            if source not in self.points or self.graph.idle(source, way):
                continue
            node, other = self.points[source], self.graph.strip_of[source]
            sends = [send for send in other.sends if send.target == strip.id] if way == "send" else []
            name = {"output": other.id, "lane": source.id, "send": sends[0].id if sends else ""}[way]
            feed = Feed(name, leaves - node.leaves, self.rack.late(2, "feed", name, strip.id))
            if way != "output":
                level = 1.0 if sends and sends[0].pre else level_gain(other.level_db)
                if sends:
                    level *= 0.0 if sends[0].mute else level_gain(sends[0].level_db)
                if not audible(self.session, other, self.audition.solo, strip.id):
                    level = 0.0
                left, right = pan_gains(other, self.points[Point("in", other.id)].channels)
                feed.gains, feed.glide = (level * left, level * right), self.rack.glide("feed", name, strip.id)
            feeds.append((f"{other.id} {name}", node, feed))
        feeds.sort(key=lambda given: given[0])  # the sum does not depend on the order of the strips
        channels = self.media.channels(strip.media_id) if strip.media_id is not None else (1 if strip.kind == "track" else 2)
        return Entry(
            strip, [node for _, node, _ in feeds], [feed for *_, feed in feeds], leaves, channels, self.rate, self.media,
            self.rack.glide("trim", strip.id),
        )  # fmt: skip


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
