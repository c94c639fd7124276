"""Compiling a session to a plan: which nodes there are, with what gains and delays; and what of it cannot glide."""

from collections.abc import Iterable

from saltanvil.dsp.units import db_to_gain
from saltanvil.engine.audition import Audition, heard_alone
from saltanvil.engine.latency import Latencies
from saltanvil.engine.media import Media
from saltanvil.engine.nodes import (
    DividedNode,
    EndNode,
    Entry,
    Feed,
    KeyFeed,
    LaneEntry,
    LaneNode,
    Node,
    OutNode,
    PlacedNode,
    SplitNode,
    StepNode,
    StripNode,
)
from saltanvil.engine.plan import Plan
from saltanvil.engine.rack import Rack
from saltanvil.processors import processor_named
from saltanvil.processors.base import Context, Settings
from saltanvil.processors.split import Split, SplitSettings
from saltanvil.session.blend import lane_shares
from saltanvil.session.document import Key, Path, Session, Step, Strip
from saltanvil.session.graph import Graph, NodeId
from saltanvil.session.levels import audible, key_muted, lane_levels, level_gain, pan_gains
from saltanvil.session.settings import resolve


def structure_of(session: Session, audition: Audition) -> tuple[object, ...]:
    """What cannot change without a crossfade; all else glides."""
    strips = tuple(
        (
            strip.id,
            strip.output,
            strip.media_id,
            strip.start_s,
            [(send.id, send.target) for send in strip.sends],
            structural_key(session, strip.path, audition.live),
        )
        for strip in session.strips
    )
    return strips, audition.scope, audition.listening


def structural_key(session: Session, path: Path, live: bool) -> tuple[object, ...]:
    """What of a path cannot change without a crossfade."""
    result: list[object] = []
    for step in path.steps:
        kind, settings = processor_named(step.kind), resolve(session, step, live)
        lanes = tuple((lane.id, lane.bypass, lane.output, structural_key(session, lane.path, live)) for lane in step.lanes)
        key = None if step.key is None else (step.key.strip_id, step.key.step_id, step.key.lane_id, step.key.at)
        latency = kind.latency_of(settings, session.rate_hz)
        result.append(
            (step.id, step.kind, step.bypass, latency, kind.structural_key(settings), kind.widens(settings), key, lanes)
        )
    return tuple(result)


def widening(path: Path, settings: dict[str, Settings]) -> set[str]:
    """The steps at which a mono sound becomes stereo: those that ask for it, and splits around them.

    What lies in a lane of one side (mid/side, left/right) stays mono.
    """
    result: set[str] = set()
    for step in path.steps:
        if step.split is None:
            if processor_named(step.kind).widens(settings[step.id]):
                result.add(step.id)
        elif step.split.by in ("copies", "bands"):
            inside = set().union(*(widening(lane.path, settings) for lane in step.lanes))
            result |= {step.id, *inside} if inside else set()
    return result


def compile_plan(
    session: Session,
    media: Media,
    rack: Rack,
    audition: Audition = Audition(),
    wanted: Iterable[NodeId] | None = None,
) -> Plan:
    """Compile a session, or only what the wanted nodes need, taking over whatever state the rack holds.

    A node is made even if nothing else needs it, such as one in a bypassed split; one that is not there is left out.
    """
    rack.used.clear()
    compiler = Compiler(session, media, rack, audition)
    nodes = [NodeId("out", strip.id) for strip in session.strips] if wanted is None else list(wanted)
    for node in compiler.graph.needed(node for node in nodes if node in compiler.graph.sources):
        compiler.nodes[node] = compiler.made(node)
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
        self.late = Latencies(self.graph, audition.live)
        self.settings = {step.id: resolve(session, step, audition.live) for strip in session.strips for step in strip.path.walk()}
        self.widening = set().union(*(widening(strip.path, self.settings) for strip in session.strips))
        self.nodes: dict[NodeId, Node] = {}
        self.only = heard_alone(session, audition)
        #: A split's divider, and the gains of its lanes, each for the sum's sides.
        self.lanes = {lane.id: (lane, index) for strip in session.strips for step in strip.path.walk()
                      for index, lane in enumerate(step.lanes)}  # fmt: skip

    def plan(self) -> Plan:
        strips = {}
        for point, node in self.nodes.items():
            if point.kind == "end":
                entry, out = self.nodes.get(NodeId("in", point.id)), self.nodes.get(NodeId("out", point.id))
                assert isinstance(node, EndNode) and isinstance(entry, Entry)
                strip = self.graph.strip_of[point]
                if not isinstance(out, OutNode):  # only a key is taken from it
                    out = self.out(strip, node)
                strips[point.id] = StripNode(strip, entry, node, out, self.steps(strip.path))
        return Plan(self.session, self.media, self.rack, self.audition, self.graph, self.nodes, strips, [])

    def steps(self, path: Path) -> list[StepNode]:
        result = []
        for step in path.steps:
            node = self.nodes.get(NodeId("step", step.id))
            if isinstance(node, StepNode):
                result.append(node)
        return result

    def made(self, point: NodeId) -> Node:
        edges = self.graph.sources[point]
        latency_frames = self.late.latency_frames[point]
        strip = self.graph.strip_of[point]
        if point.kind == "in":
            return self.entry(strip, point)
        sources = [self.nodes[edge.source] for edge in edges if edge.source in self.nodes]
        if point.kind == "end":
            return EndNode(sources[0], sources[1], self.rack.delay_line(sources[0].channels, "strip", strip.id))
        if point.kind == "out":
            return self.out(strip, sources[0])
        if point.kind == "step":
            return self.step(self.graph.steps[point.id], point, sources, latency_frames)
        if point.kind == "divided":
            step = self.graph.steps[point.id]
            channels = self.channels_of(step, sources[0])
            return DividedNode(self.split(step, channels), self.settings[step.id], sources[0], latency_frames, channels)
        lane, index = self.lanes[point.id]
        step = self.graph.steps[point.id]
        assert step.split is not None
        if point.kind == "enter":
            channels = 1 if step.split.by in ("mid/side", "left/right") else sources[0].channels
            return LaneEntry(0 if step.split.by == "copies" else index, sources[0], channels)
        if point.kind == "lane":
            late = self.rack.delay_line(sources[0].channels, "lane", lane.id)
            return LaneNode(lane, sources[0], sources[1], self.steps(lane.path), late)
        node = sources[0]
        assert isinstance(node, LaneNode)
        channels = self.nodes[NodeId("divided", step.id)].channels
        place = self.split(step, channels).places(step.split.by, channels, len(step.lanes))[index]
        level = lane_levels(step, self.audition.live, self.only)[index]
        return PlacedNode(
            node, sources[1], latency_frames, channels, place, level, self.shares(step)[index], self.rack, self.rate
        )

    def shares(self, step: Step) -> tuple[float, ...]:
        settings = self.settings[step.id]
        assert isinstance(settings, SplitSettings)
        return lane_shares(step, settings)

    def channels_of(self, step: Step, source: Node) -> int:
        """Of a step and all that follows it."""
        return 2 if step.id in self.widening else source.channels

    def split(self, step: Step, channels: int) -> Split:
        made = self.rack.processor(step, self.settings[step.id], channels, self.context)
        assert isinstance(made, Split)
        return made

    def step(self, step: Step, point: NodeId, sources: list[Node], latency_frames: int) -> StepNode:
        settings, channels = self.settings[step.id], self.channels_of(step, sources[0])
        processor = self.rack.processor(step, settings, channels, self.context)
        if step.lanes:
            late_by = latency_frames - sources[0].latency_frames
            split = SplitNode(step, settings, processor, sources, latency_frames, channels, late_by, 0, self.rack)
            split.placed = [node for node in sources[1:] if isinstance(node, PlacedNode)]
            split.lanes = [node for placed in split.placed for node in placed.sources[:1] if isinstance(node, LaneNode)]
            return split
        wait = self.late.wait(point)
        key = None
        if step.key is not None:
            key = KeyFeed(
                wait=latency_frames - self.late.own[step.id] - sources[1].latency_frames,
                gain=self.key_gain(point, step.key),
                late=self.rack.delay_line(channels, "key", step.id),
                glide=self.rack.glide("key", step.id),
            )
        return StepNode(
            step, settings, processor, sources, latency_frames, channels, self.late.own[step.id], wait, self.rack, key
        )

    def key_gain(self, point: NodeId, key: Key) -> float:
        source = self.graph.heard_at(self.graph.strip_of[point], key)
        lane = self.lanes[source.id][0] if source.id in self.lanes else None
        return 0.0 if key_muted(key, self.graph.strip_of[source], lane) else db_to_gain(key.trim_db)

    def out(self, strip: Strip, end: Node) -> OutNode:
        level = level_gain(strip.level_db) if audible(self.session, strip, self.audition.live) else 0.0
        if self.audition.balance[0] == strip.id:
            level *= db_to_gain(self.audition.balance[1])
        left, right = pan_gains(strip, self.nodes[NodeId("in", strip.id)].channels)
        return OutNode(end, (level * left, level * right), self.rack.glide("fader", strip.id), self.rate)

    def entry(self, strip: Strip, point: NodeId) -> Entry:
        feeds: list[tuple[str, Node, Feed]] = []
        latency_frames = self.late.latency_frames[point]
        for source, way in self.graph.sources[point]:
            if source not in self.nodes or self.graph.idle(source, way):
                continue
            node, other = self.nodes[source], self.graph.strip_of[source]
            sends = [send for send in other.sends if send.target == strip.id] if way == "send" else []
            name = {"output": other.id, "lane": source.id, "send": sends[0].id if sends else ""}[way]
            feed = Feed(name, latency_frames - node.latency_frames, self.rack.delay_line(2, "feed", name, strip.id))
            if way != "output":
                level = 1.0 if sends and sends[0].pre else level_gain(other.level_db)
                if sends:
                    level *= 0.0 if sends[0].mute else level_gain(sends[0].level_db)
                if not audible(self.session, other, self.audition.live, strip.id):
                    level = 0.0
                left, right = pan_gains(other, self.nodes[NodeId("in", other.id)].channels)
                feed.gains, feed.glide = (level * left, level * right), self.rack.glide("feed", name, strip.id)
            feeds.append((f"{other.id} {name}", node, feed))
        feeds.sort(key=lambda given: given[0])  # the sum does not depend on the order of the strips
        channels = self.media.channels(strip.media_id) if strip.media_id is not None else (1 if strip.kind == "track" else 2)
        return Entry(
            strip, [node for _, node, _ in feeds], [feed for *_, feed in feeds], latency_frames, channels, self.rate, self.media,
            self.rack.glide("trim", strip.id),
        )  # fmt: skip
