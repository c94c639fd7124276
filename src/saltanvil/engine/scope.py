"""Before and after of a scope over a passage, from cached stretches: an edit of step n renders from n on."""

import threading
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import mix
from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.dsp.units import gain_to_db
from saltanvil.engine.audition import RENDERED, Scope
from saltanvil.engine.cache import RenderedSegment, SegmentCache, fingerprints
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.media import Media
from saltanvil.engine.nodes.base import Node, widened
from saltanvil.engine.nodes.split import PlacedNode, SplitNode
from saltanvil.engine.nodes.step import StepNode, joined
from saltanvil.engine.plan import Plan
from saltanvil.engine.rack import Audio, Rack
from saltanvil.engine.render import Cancelled
from saltanvil.engine.run_graph import run_graph
from saltanvil.engine.time import ceil_tick, floor_tick, preroll_start
from saltanvil.processors.base import Telemetry
from saltanvil.session.document.session import Session
from saltanvil.session.graph import NodeId

#: Windows are longer than the passage by the latency, rounded up to this, so that a moved lookahead reuses them.
ROOM_FRAMES = 8192
CHUNK_FRAMES = 1 << 15


@dataclass(frozen=True)
class ScopeAudio:
    """A scope over a passage: aligned arrays of the same shape, and per tick what the step did.

    latency_frames: by how much the scope itself delays. The per-tick arrays belong to the scope's step, or to the
    step of the strip that took most; empty if none reduces. rows: what else the scope's step tells. key_peak_db: peak
    of what reaches the step's detector, before its filter, in dBFS.
    """

    before: Audio
    after: Audio
    reduction_db: NDArray[np.float32]
    detector_db: NDArray[np.float32]
    latency_frames: int
    total_latency_frames: int
    rows: dict[str, NDArray[np.float32]] = field(default_factory=dict)
    key_peak_db: float | None = None


@dataclass(frozen=True)
class ScopeNodes:
    """Where a scope begins and ends in a plan, and the steps whose gain reduction is its own."""

    before: Node
    after: Node
    tracing: list[StepNode]
    placed: PlacedNode | None = None

    def sides(self, entering: Audio, leaving: Audio, at: int) -> tuple[Audio, Audio]:
        """Both of one shape, from what came in and went out from the session's frame `at` on."""
        entering = widened(entering, self.after.channels)
        if self.placed is None:
            return entering, leaving
        # A lane is measured by itself, wherever the blend stands.
        return self.placed.entering(entering), self.placed.leaving(leaving, at)


def points_of(scope: Scope) -> list[NodeId]:
    """What a plan must hold for a scope: what its strip needs, and the scope, even where a bypass makes it idle."""
    inside = [NodeId("step", scope.step_id)] if scope.step_id is not None else []
    if scope.lane_id is not None:
        inside.append(NodeId("placed", scope.lane_id))
    return [NodeId("out", scope.strip_id), *inside]


def scope_nodes(plan: Plan, scope: Scope) -> ScopeNodes:
    """Raises NotFound if the scope is not there."""
    session = plan.session
    strip = plan.node(session.strip(scope.strip_id).id)
    before: Node = strip.entry
    after: Node = strip.end
    placed: PlacedNode | None = None
    tracing = list(strip.walk())
    if scope.step_id is not None:
        step = plan.nodes[NodeId("step", session.step(scope.step_id).step.id)]
        assert isinstance(step, StepNode)
        before, after, tracing = step.sources[0], step, [step]
    elif scope.lane_id is not None:
        session.lane(scope.lane_id)
        lane = plan.nodes[NodeId("placed", scope.lane_id)]
        assert isinstance(lane, PlacedNode)
        placed = lane
        after, before = lane.sources
        tracing = [step for node in placed_steps(plan, scope.lane_id) for step in node.walk()]
    return ScopeNodes(before, after, [step for step in tracing if not isinstance(step, SplitNode)], placed)


class ScopeRenderer:
    """Renders scopes of one version of a session over frames start..stop.

    cancelled: asked between chunks; when true, `Cancelled` is raised and finished stretches stay in the cache.
    """

    def __init__(
        self,
        session: Session,
        media: Media,
        cache: SegmentCache,
        start: int,
        stop: int,
        cancelled: Callable[[], bool] = lambda: False,
        pool: ThreadPoolExecutor | None = None,
    ) -> None:
        self.session, self.media, self.cache, self.cancelled, self.pool = session, media, cache, cancelled, pool
        self.start, self.stop = start, stop
        self.begin = preroll_start(floor_tick(start), session.rate_hz)

    def compare(self, scope: Scope) -> ScopeAudio:
        """Raises NotFound if the scope is not there."""
        strip_id = self.session.strip(scope.strip_id).id
        plan = self._compiled(scope)
        strip = plan.node(strip_id)
        nodes = scope_nodes(plan, scope)
        before, after, tracing = nodes.before, nodes.after, nodes.tracing
        keyed = after if isinstance(after, StepNode) and after.key is not None else None
        stretches = self._stretches(plan, [before, after, *tracing, *(keyed.sources[1:] if keyed is not None else ())])
        entering, leaving = nodes.sides(
            self._cut(stretches[id(before)].audio, before.latency_frames),
            self._cut(stretches[id(after)].audio, after.latency_frames),
            self.start,
        )
        traces = [(stretches[id(step)], step.latency_frames) for step in tracing if len(stretches[id(step)].reduction_db)]
        reduction, detector = np.empty(0, np.float32), np.empty(0, np.float32)
        rows: dict[str, NDArray[np.float32]] = {}
        if traces:
            best, at = max(traces, key=lambda trace: float(np.abs(trace[0].reduction_db).max(initial=0.0)))
            reduction, detector = self._ticks(best.reduction_db, at), self._ticks(best.detector_db, at)
            if scope.step_id is not None:
                rows = {name: self._ticks(values, at) for name, values in best.rows.items()}
        key_peak_db = None
        if isinstance(after, StepNode) and after.processor.listens:
            detector_input = entering
            if keyed is not None and keyed.key is not None:
                source = keyed.sources[1]
                detector_input = keyed.key.fitted(self._cut(stretches[id(source)].audio, source.latency_frames), after.channels)
            key_peak_db = gain_to_db(
                float(mix.peak(detector_input)) * (1.0 if keyed is None or keyed.key is None else keyed.key.gain)
            )
        return ScopeAudio(
            entering, leaving, reduction, detector, after.latency_frames - before.latency_frames, strip.latency, rows, key_peak_db
        )

    def _compiled(self, scope: Scope) -> Plan:
        plan = compile_plan(self.session, self.media, Rack(), RENDERED, points_of(scope))
        latest = max(node.latency_frames for node in plan.nodes.values())
        self.end = ceil_tick(self.stop) + -(-max(latest, 1) // ROOM_FRAMES) * ROOM_FRAMES
        return plan

    def _cut(self, audio: Audio, latency: int) -> Audio:
        first = self.start - self.begin + latency
        return np.ascontiguousarray(audio[:, first : first + self.stop - self.start])

    def _ticks(self, values: NDArray[np.float32], latency: int) -> NDArray[np.float32]:
        first = (self.start - self.begin + latency) // TICK_FRAMES
        return values[first : first + -(-(self.stop - self.start) // TICK_FRAMES)]

    # ---- stretches -----------------------------------------------------------------------------------------------------

    def _stretches(self, plan: Plan, wanted: Iterable[Node]) -> dict[int, RenderedSegment]:
        """The stretches of nodes, by their identity: from the cache, or made from those of their sources, which are dropped
        as soon as all that is made of them is there."""
        wanted = list(wanted)
        names = fingerprints(plan, (self.begin, self.end, self.session.rate_hz))
        result: dict[int, RenderedSegment] = {}
        order: list[Node] = []
        needed = {id(node) for node in wanted}
        for node in reversed(plan.nodes.values()):  # what is in the cache needs no sources
            if id(node) in needed:
                segment = self.cache.get(names[id(node)]) if node.stored else None
                if segment is not None:
                    result[id(node)] = segment
                else:
                    order.insert(0, node)
                    needed.update(id(source) for source in node.sources)

        kept = {id(node) for node in wanted}
        uses: dict[int, int] = {}
        for node in order:
            for name in {id(source) for source in node.sources}:
                uses[name] = uses.get(name, 0) + 1
        lock = threading.Lock()

        def let_go(node: Node) -> None:
            with lock:
                for name in {id(source) for source in node.sources}:
                    uses[name] -= 1
                    if not uses[name] and name not in kept:
                        result.pop(name, None)

        def make(node: Node) -> None:
            if self.cancelled():
                raise Cancelled
            stretch = self._made(node, [result[id(source)].audio for source in node.sources])
            result[id(node)] = stretch
            if node.stored:
                self.cache.put(names[id(node)], stretch)
            let_go(node)

        if self.pool is not None and len(order) > 1:
            run_graph(order, make, self.pool)
        else:
            for node in order:
                make(node)
        return result

    def _made(self, node: Node, inputs: list[Audio]) -> RenderedSegment:
        frames = self.end - self.begin
        if not isinstance(node, StepNode) or isinstance(node, SplitNode):
            return RenderedSegment(node.make(self.begin, frames, inputs))
        result: Audio | None = None
        blocks: list[Telemetry] = []
        for at in range(0, frames, CHUNK_FRAMES):
            if self.cancelled():
                raise Cancelled
            cut = slice(at, at + CHUNK_FRAMES)
            sound = node.make(self.begin + at, min(CHUNK_FRAMES, frames - at), [np.ascontiguousarray(x[:, cut]) for x in inputs])
            if result is None:
                result = np.empty((len(sound), frames), np.float32)
            result[:, cut] = sound
            blocks.append(node.processor.telemetry)
        assert result is not None
        telemetry = joined(blocks)
        return RenderedSegment(result, telemetry.reduction_db, telemetry.detector_db, telemetry.rows)


def placed_steps(plan: Plan, lane_id: str) -> list[StepNode]:
    """The steps of a lane at work."""
    lane = plan.session.lane(lane_id)[2]
    nodes = [plan.nodes.get(NodeId("step", step.id)) for step in lane.path.steps]
    return [node for node in nodes if isinstance(node, StepNode)]
