"""Makes the nodes of a plan from a session, one by one, and uses again what an edit left alone."""

from collections.abc import Callable, Iterable, Mapping
from functools import partial
from types import MappingProxyType
from typing import Literal, TypeVar

from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.dsp.units import db_to_gain
from saltanvil.engine.audition import Audition, heard_alone
from saltanvil.engine.automation import GAIN_GRID_FRAMES, Moving
from saltanvil.engine.compiled import Compiled, CompiledNode
from saltanvil.engine.latency import Latencies
from saltanvil.engine.media import Media
from saltanvil.engine.nodes.base import Node
from saltanvil.engine.nodes.feeds import Entry, Feed, KeyFeed
from saltanvil.engine.nodes.gains import BypassFade, Gains
from saltanvil.engine.nodes.split import DividedNode, LaneEntry, LaneNode, PlacedNode, SplitNode
from saltanvil.engine.nodes.step import StepNode
from saltanvil.engine.nodes.strip import EndNode, OutNode, StripNode
from saltanvil.engine.plan import Plan
from saltanvil.engine.rack import Rack
from saltanvil.engine.structure import LANE_MOVES, widening
from saltanvil.processors import Processor, processor_named
from saltanvil.processors.base import Context, Settings
from saltanvil.processors.split import Split, SplitSettings
from saltanvil.session.automation import Automation, settings_with, with_values
from saltanvil.session.blend import lane_shares
from saltanvil.session.document.automation import Automated, Owner
from saltanvil.session.document.path import Key, Lane, Path, Step
from saltanvil.session.document.session import Send, Session, Strip
from saltanvil.session.envelopes import Course
from saltanvil.session.graph import Graph, NodeId
from saltanvil.session.levels import audible, key_muted, lane_levels, level_gain, pan_gains
from saltanvil.session.settings import resolve, settings_of

T = TypeVar("T")
NO_VALUES: Mapping[str, float] = MappingProxyType({})


def compile_plan(
    session: Session,
    media: Media,
    rack: Rack,
    audition: Audition = Audition(),
    wanted: Iterable[NodeId] | None = None,
    before: Compiled | None = None,
) -> Plan:
    """Compile a session, or only what the wanted nodes need, taking over whatever state the rack holds.

    A node is made even if nothing else needs it, such as one in a bypassed split; one that is not there is left out.
    before: what was compiled last with this rack; what did not change since is not made again.
    """
    before = before or Compiled()
    before.take(session, audition)
    compiler = Compiler(session, media, rack, audition, before)
    nodes = [NodeId("out", strip.id) for strip in session.strips] if wanted is None else list(wanted)
    entries: dict[NodeId, CompiledNode] = {}
    replaced: dict[int, Node] = {}
    for point in compiler.graph.needed(node for node in nodes if node in compiler.graph.sources):
        of, entry = compiler.depends(point), before.nodes.get(point)
        if entry is None or entry.of != of or not entry.used.keys() <= rack.states.keys():
            rack.used = {}
            new = CompiledNode(of, compiler.made(point), rack.used)
            if entry is not None:
                replaced[id(entry.node)] = new.node
            entry = new
        else:
            entry.node.carry_on(compiler.context, replaced)
        entries[point] = entry
        compiler.nodes[point] = entry.node
    rack.used = {name: None for entry in entries.values() for name in entry.used}
    before.nodes = entries
    plan = compiler.plan()
    plan.used = {point: tuple(entry.used) for point, entry in entries.items()}
    plan.hear()
    rack.drop_unused()
    return plan


class Compiler:
    """Makes the points of one session. before: what is known of its strips."""

    def __init__(self, session: Session, media: Media, rack: Rack, audition: Audition, before: Compiled) -> None:
        self.session, self.media, self.rack, self.audition = session, media, rack, audition
        self.rate = session.rate_hz
        self.context = Context(rate=session.rate_hz, tempo_bpm=session.tempo_bpm)
        self.graph = before.graph = Graph(session, before.graph)
        #: What moves values, and the objects with their levers counted in.
        self.automation = Automation(session)
        before.settings = {strip.id: self._settings_of(strip, before) for strip in session.strips}
        self.settings = {step_id: settings for _, own in before.settings.values() for step_id, settings in own.items()}
        self.latencies = Latencies(self.graph, audition.live, settings=self.settings)
        self.widening = set().union(*(widening(strip.path, self.settings) for strip in session.strips))
        #: What mute and solo decide by, beside a strip itself.
        self.audible = tuple((strip.mute, strip.solo, strip.kind, *strip.targets()) for strip in session.strips)
        self.nodes: dict[NodeId, Node] = {}
        self.only = heard_alone(session, audition)
        #: A split's divider, and the gains of its lanes, each for the sum's sides.
        self.lanes = {lane.id: (lane, index) for strip in session.strips for step in strip.path.walk()
                      for index, lane in enumerate(step.lanes)}  # fmt: skip

    def _settings_of(self, strip: Strip, before: Compiled) -> tuple[Strip, dict[str, Settings]]:
        known = before.settings.get(strip.id)
        if known is not None and known[0] is strip:
            return known
        live, automation = self.audition.live, self.automation
        return strip, {step.id: resolve(self.session, step, live, automation=automation) for step in strip.path.walk()}

    def depends(self, point: NodeId) -> tuple[object, ...]:
        """All that `made` makes a point of, besides what `Compiled.take` compares. Strips count by identity."""
        strip, latency_frames = self.graph.strip_of[point], self.latencies.latency_frames[point]
        edges = self.graph.sources[point]
        made_of = [self.nodes.get(edge.source) for edge in edges]
        sources = tuple(None if node is None else (node.latency_frames, node.channels) for node in made_of)
        if point.kind == "in":
            others = tuple((edge, id(self.graph.strip_of[edge.source])) for edge in edges)
            return id(strip), latency_frames, sources, others, self.audible
        if point.kind == "out":
            return id(strip), sources, self.nodes[NodeId("in", strip.id)].channels, self.audible, self.audition.balance
        if point.kind == "step":
            keys = tuple(id(self.graph.strip_of[edge.source]) for edge in edges if edge.way == "key")
            return id(strip), latency_frames, sources, keys, self.latencies.wait(point), self.latencies.own[point.id]
        if point.kind == "placed":
            divided = self.nodes[NodeId("divided", self.graph.steps[point.id].id)]
            return id(strip), latency_frames, sources, divided.channels
        return id(strip), latency_frames, sources

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
        latency_frames = self.latencies.latency_frames[point]
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
            divided = DividedNode(self.split(step, channels), self.settings[step.id], sources[0], latency_frames, channels)
            divided.moving = self.moving_settings(step, self.dividers(step), sources[0].latency_frames)
            return divided
        lane, index = self.lanes[point.id]
        step = self.graph.steps[point.id]
        assert step.split is not None
        if point.kind == "enter":
            channels = 1 if step.split.by in ("mid/side", "left/right") else sources[0].channels
            return LaneEntry(0 if step.split.by == "copies" else index, sources[0], channels)
        if point.kind == "lane":
            delay_line = self.rack.delay_line(sources[0].channels, "lane", lane.id)
            fade = self.fade("lane", lane, latency_frames)
            return LaneNode(lane, sources[0], sources[1], self.steps(lane.path), delay_line, fade)
        node = sources[0]
        assert isinstance(node, LaneNode)
        channels = self.nodes[NodeId("divided", step.id)].channels
        place = self.split(step, channels).places(step.split.by, channels, len(step.lanes))[index]
        level, share = self.lane_gains(step, index)
        moving = self.moving_lane(step, lane, index, latency_frames)
        return PlacedNode(node, sources[1], latency_frames, channels, place, level, share, self.rack, self.rate, moving)

    def lane_gains(self, step: Step, index: int, values: Mapping[str, float] = NO_VALUES) -> Gains:
        """A lane's own level, and what a blend gives it. values: the lane's and the split's that move, as they are."""
        lane = self.automation.now("lane", step.lanes[index].id, step.lanes[index])
        lane = with_values(lane, {name: value for name, value in values.items() if name in LANE_MOVES})
        lanes = [lane if other.id == lane.id else other for other in step.lanes]
        step = with_values(
            self.automation.now("step", step.id, step), {name: value for name, value in values.items() if name not in LANE_MOVES}
        ).model_copy(update={"lanes": lanes})
        settings = settings_of(self.session, step, step.settings, self.audition.live)
        assert isinstance(settings, SplitSettings)
        return lane_levels(step, self.audition.live, self.only)[index], lane_shares(step, settings)[index]

    # ---- what moves over time --------------------------------------------------------------------------------------------

    def moving(
        self,
        courses: Mapping[str, Course],
        build: Callable[[dict[str, float]], T],
        latency: int,
        grid_frames: int = GAIN_GRID_FRAMES,
    ) -> Moving[T] | None:
        """latency: of the sound that is treated; None where nothing moves."""
        return Moving(courses, build, self.rack.clock, latency, self.rate, grid_frames) if courses else None

    def courses(self, of: Owner, name: str, part: Automated, *names: str) -> dict[str, Course]:
        """Some of the courses of an object; all but a bypass if none is named."""
        courses_by_name = self.automation.moving(of, name, part)
        return {name: course for name, course in courses_by_name.items() if (name in names if names else name != "bypass")}

    def moving_settings(self, step: Step, courses: Mapping[str, Course], latency: int) -> Moving[Settings] | None:
        now, live = self.automation.now("step", step.id, step), self.audition.live

        def settings(values: Mapping[str, float]) -> Settings:
            return settings_of(self.session, now, settings_with(now.settings, values), live)

        return self.moving(courses, settings, latency, processor_named(step.kind).grid_ticks * TICK_FRAMES)

    def dividers(self, step: Step) -> dict[str, Course]:
        """The courses of a split's dividers: of its settings only they have a part in dividing."""
        return {name: course for name, course in self.courses("step", step.id, step).items() if name.startswith("dividers_hz")}

    def moving_lane(self, step: Step, lane: Lane, index: int, latency: int) -> Moving[Gains] | None:
        courses = self.courses("lane", lane.id, lane, *LANE_MOVES) | self.courses("step", step.id, step, "position", "trim_db")
        return self.moving(courses, lambda values: self.lane_gains(step, index, values), latency)

    def fade(self, of: Literal["step", "lane"], part: Step | Lane, latency: int) -> BypassFade | None:
        """The fade of a bypass that has an envelope, whether that is on or not. latency: of the sound that leaves."""
        if "bypass" not in part.envelopes:
            return None
        moving = self.moving(self.courses(of, part.id, part, "bypass"), lambda values: share_of(values["bypass"] < 0.5), latency)
        return BypassFade(0.0 if part.bypass else 1.0, moving, self.rack, part.id, self.rate)

    def channels_of(self, step: Step, source: Node) -> int:
        """Of a step and all that follows it."""
        return 2 if step.id in self.widening else source.channels

    def split(self, step: Step, channels: int) -> Split:
        moving = bool(self.dividers(step))
        processor = self.rack.processor(step, self.settings[step.id], channels, self.context, moving)
        assert isinstance(processor, Split)
        return processor

    def step(self, step: Step, point: NodeId, sources: list[Node], latency_frames: int) -> StepNode:
        settings, channels = self.settings[step.id], self.channels_of(step, sources[0])
        if step.lanes:
            processor: Processor = self.split(step, channels)
            late_by = latency_frames - sources[0].latency_frames
            split = SplitNode(step, settings, processor, sources, latency_frames, channels, late_by, 0, self.rack)
            split.fade = self.fade("step", step, latency_frames)
            return split
        moving = self.moving_settings(step, self.courses("step", step.id, step), latency_frames - self.latencies.own[step.id])
        processor = self.rack.processor(step, settings, channels, self.context, moving is not None)
        wait = self.latencies.wait(point)
        key = None
        if step.key is not None:
            key = KeyFeed(
                wait=latency_frames - self.latencies.own[step.id] - sources[1].latency_frames,
                gain=self.key_gain(point, step)[0],
                delay_line=self.rack.delay_line(channels, "key", step.id),
                glide=self.rack.glide("key", step.id),
                moving=self.moving_key(point, step, sources[1].latency_frames),
            )
        node = StepNode(
            step, settings, processor, sources, latency_frames, channels, self.latencies.own[step.id], wait, self.rack, key
        )
        node.moving, node.fade = moving, self.fade("step", step, latency_frames)
        return node

    def key_source(self, point: NodeId, key: Key) -> tuple[Strip, Lane | None]:
        """The strip a key is taken from, and the lane, if it is one."""
        source = self.graph.heard_at(self.graph.strip_of[point], key)
        return self.graph.strip_of[source], self.lanes[source.id][0] if source.id in self.lanes else None

    def key_gain(self, point: NodeId, step: Step, values: Mapping[str, float] = NO_VALUES) -> Gains:
        """values: those that move, as they are: the key's trim, and the mutes of its source."""
        assert step.key is not None
        strip, lane = self.key_source(point, step.key)
        if "strip mute" in values:
            strip = with_values(strip, {"mute": values["strip mute"]})
        if lane is not None and "lane mute" in values:
            lane = with_values(lane, {"mute": values["lane mute"]})
        trim_db = values.get("trim_db", self.automation.now("key", step.id, step.key).trim_db)
        gain = 0.0 if key_muted(step.key, strip, lane) else db_to_gain(trim_db)
        return gain, gain

    def moving_key(self, point: NodeId, step: Step, latency: int) -> Moving[Gains] | None:
        assert step.key is not None
        courses = self.courses("key", step.id, step.key)
        if step.key.mutes:
            strip, lane = self.key_source(point, step.key)
            mutes = {"strip mute": self.courses("strip", strip.id, strip, "mute")}
            if lane is not None:
                mutes["lane mute"] = self.courses("lane", lane.id, lane, "mute")
            courses |= {name: own["mute"] for name, own in mutes.items() if own}
        return self.moving(courses, lambda values: self.key_gain(point, step, values), latency)

    def strip_with(self, strip: Strip, values: Mapping[str, float]) -> Strip:
        """A strip with its levers counted in, and what moves as it is."""
        return with_values(self.automation.now("strip", strip.id, strip), values)

    def law_channels(self, strip: Strip) -> int:
        """What level and pan go by: the channels that enter the path, or entered it before it was printed."""
        return strip.printed.channels if strip.printed is not None else self.nodes[NodeId("in", strip.id)].channels

    def out(self, strip: Strip, end: Node) -> OutNode:
        channels = self.law_channels(strip)

        def gains(values: Mapping[str, float]) -> Gains:
            now = self.strip_with(strip, values)
            level = level_gain(now.level_db) if audible(self.session, now, self.audition.live) else 0.0
            if self.audition.balance[0] == strip.id:
                level *= db_to_gain(self.audition.balance[1])
            left, right = pan_gains(now, channels)
            return level * left, level * right

        moving = self.moving(self.courses("strip", strip.id, strip, "level_db", "pan", "mute"), gains, end.latency_frames)
        return OutNode(end, gains(NO_VALUES), self.rack.glide("fader", strip.id), self.rate, moving)

    def feed_gains(self, strip: Strip, send: Send | None, target: str, values: Mapping[str, float] = NO_VALUES) -> Gains:
        """What a send, or (None) a lane sent to a bus, gets on its way to a strip.

        values: the strip's that move, as they are, and the send's, with `send` before their names.
        """
        now = self.strip_with(strip, {name: value for name, value in values.items() if not name.startswith("send ")})
        level = 1.0 if send is not None and send.pre else level_gain(now.level_db)
        if send is not None:
            own = {name.removeprefix("send "): value for name, value in values.items() if name.startswith("send ")}
            send = with_values(self.automation.now("send", send.id, send), own)
            level *= 0.0 if send.mute else level_gain(send.level_db)
        if not audible(self.session, now, self.audition.live, target):
            level = 0.0
        left, right = pan_gains(now, self.law_channels(strip))
        return level * left, level * right

    def entry(self, strip: Strip, point: NodeId) -> Entry:
        feeds: list[tuple[str, Node, Feed]] = []
        latency_frames = self.latencies.latency_frames[point]
        for source, way in self.graph.sources[point]:
            if source not in self.nodes or self.graph.idle(source, way):
                continue
            node, other = self.nodes[source], self.graph.strip_of[source]
            send = next((send for send in other.sends if send.target == strip.id), None) if way == "send" else None
            name = {"output": other.id, "lane": source.id, "send": "" if send is None else send.id}[way]
            feed = Feed(name, latency_frames - node.latency_frames, self.rack.delay_line(2, "feed", name, strip.id))
            if way != "output":
                courses = self.courses("strip", other.id, other, "level_db", "pan", "mute")
                if send is not None:
                    courses |= {f"send {name}": course for name, course in self.courses("send", send.id, send).items()}
                feed.gains, feed.glide = self.feed_gains(other, send, strip.id), self.rack.glide("feed", name, strip.id)
                feed.moving = self.moving(courses, partial(self.feed_gains, other, send, strip.id), node.latency_frames)
            feeds.append((f"{other.id} {name}", node, feed))
        feeds.sort(key=lambda pair: pair[0])  # the sum does not depend on the order of the strips
        channels = self.media.channels(strip.media_id) if strip.media_id is not None else (1 if strip.kind == "track" else 2)
        now = self.strip_with(strip, NO_VALUES)
        moving = self.moving(
            self.courses("strip", strip.id, strip, "trim_db"),
            lambda values: share_of(db_to_gain(values["trim_db"])),
            latency_frames,
        )
        return Entry(
            now, [node for _, node, _ in feeds], [feed for *_, feed in feeds], latency_frames, channels, self.rate, self.media,
            self.rack.glide("trim", strip.id), moving,
        )  # fmt: skip


def share_of(gain: float) -> Gains:
    """The same to both sides."""
    return float(gain), float(gain)
