"""Before and after of a scope over a passage, from cached stretches: an edit of step n renders from n on."""

import copy
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import partial

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import mix
from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.dsp.units import db_to_gain
from saltanvil.engine.cache import Stretch, StretchCache, fingerprint
from saltanvil.engine.plan import Feed, Media, Node, ceil_tick, compile_plan, floor_tick, preroll_start
from saltanvil.engine.rack import Audio, Late, Rack
from saltanvil.engine.render import Cancelled
from saltanvil.engine.steps import Audition, LaneNode, Scope, SplitNode, StepNode
from saltanvil.processors.base import Telemetry
from saltanvil.session.document import Session

#: Windows are longer than the passage by the latency, rounded up to this, so that a moved lookahead reuses them.
ROOM_FRAMES = 8192
CHUNK_FRAMES = 1 << 15


@dataclass(frozen=True)
class Compared:
    """A scope over a passage: aligned arrays of the same shape, and per tick what the step did.

    latency_frames: by how much the scope itself delays. The per-tick arrays belong to the scope's step, or to the
    step of the strip that took most; empty if none reduces. rows: what else the scope's step tells.
    """

    before: Audio
    after: Audio
    reduction_db: NDArray[np.float32]
    detector_db: NDArray[np.float32]
    latency_frames: int
    total_latency_frames: int
    rows: dict[str, NDArray[np.float32]] = field(default_factory=dict)


class ScopeRenderer:
    """Renders one scope of one version of a session over frames start..stop.

    cancelled: asked between chunks; when true, `Cancelled` is raised and finished stretches stay in the cache.
    """

    def __init__(
        self,
        session: Session,
        media: Media,
        cache: StretchCache,
        start: int,
        stop: int,
        cancelled: Callable[[], bool] = lambda: False,
        pool: ThreadPoolExecutor | None = None,
    ) -> None:
        self.session, self.media, self.cache, self.cancelled, self.pool = session, media, cache, cancelled, pool
        self.start, self.stop = start, stop
        self.begin = preroll_start(floor_tick(start), session.rate_hz)
        self._scope: Scope | None = None
        #: Before and after of the scope, each with its latency, once it is found; and the name of after.
        self._found: tuple[Stretch, int, Stretch, int] | None = None
        self._found_name = ""
        #: Whether what a lane sends to a bus is asked for, and not the lane by itself.
        self._sending = False
        self._traces: list[tuple[Stretch, int]] = []
        self._lanes: list[tuple[Stretch, int]] = []

    def compare(self, scope: Scope) -> Compared:
        """Raises LookupError if the scope is not there."""
        if scope.step_id is not None:
            self.session.step(scope.step_id)
        elif scope.lane_id is not None:
            self.session.lane(scope.lane_id)
        node = self._compiled(scope.strip_id)
        self._scope, self._found, self._traces = scope, None, []
        name, entering = self._entering(node)
        _, leaving, latency = self._through(name, entering, node.steps, node.latency_in)
        before, before_latency, after, after_latency = self._found or (entering, node.latency_in, leaving, latency)
        traces = [(after, after_latency)] if scope.step_id is not None else self._traces
        traces = [(stretch, at) for stretch, at in traces if len(stretch.reduction_db)]
        reduction, detector = np.empty(0, np.float32), np.empty(0, np.float32)
        rows: dict[str, NDArray[np.float32]] = {}
        if traces:
            best, at = max(traces, key=lambda t: float(np.abs(t[0].reduction_db).max(initial=0.0)))
            reduction, detector = self._ticks(best.reduction_db, at), self._ticks(best.detector_db, at)
            if scope.step_id is not None:
                rows = {name: self._ticks(values, at) for name, values in best.rows.items()}
        return Compared(
            self._cut(before.audio, before_latency),
            self._cut(after.audio, after_latency),
            reduction,
            detector,
            after_latency - before_latency,
            node.latency,
            rows,
        )

    def sides(self, strip_id: str, step_id: str) -> list[Audio]:
        """What leaves each lane of a split over the passage, at the lane's own level, all aligned; muted ones silent.

        A blend's weights are left out. Raises LookupError.
        """
        node = self._compiled(strip_id)
        split = next((step for step in node.walk() if step.step.id == step_id), None)
        if not isinstance(split, SplitNode):
            raise LookupError(f"there is no split {step_id!r} on this strip")
        self._scope, self._found, self._traces = Scope(strip_id, step_id), None, []
        self._lanes = []
        name, entering = self._entering(node)
        self._through(name, entering, node.steps, node.latency_in)
        found = []
        for lane, (stretch, latency) in zip(split.step.lanes, self._lanes, strict=True):
            gain = 0.0 if lane.mute else db_to_gain(lane.level_db) * (-1.0 if lane.invert else 1.0)
            found.append(np.asarray(self._cut(stretch.audio, latency) * np.float32(gain)))
        return found

    def _compiled(self, strip_id: str) -> Node:
        self.session.strip(strip_id)
        node = compile_plan(self.session, self.media, Rack(), Audition(solo=False), only=strip_id).nodes[-1]
        self.end = ceil_tick(self.stop) + -(-max(node.latency, 1) // ROOM_FRAMES) * ROOM_FRAMES
        return node

    def _cut(self, audio: Audio, latency: int) -> Audio:
        first = self.start - self.begin + latency
        return np.ascontiguousarray(audio[:, first : first + self.stop - self.start])

    def _ticks(self, values: NDArray[np.float32], latency: int) -> NDArray[np.float32]:
        first = (self.start - self.begin + latency) // TICK_FRAMES
        return values[first : first + -(-(self.stop - self.start) // TICK_FRAMES)]

    def _entering(self, node: Node) -> tuple[str, Stretch]:
        """What enters a strip's path."""
        strip = node.strip
        feeds: list[tuple[str, Stretch]] = []
        if node.inputs:
            plain = not any(feed.node.inputs or feed.lane for feed in node.inputs)
            run = self.pool.map if self.pool is not None and plain else map
            feeds = list(run(self._leaving, node.inputs))
        late = [node.latency_in - feed.latency for feed in node.inputs]
        window = (self.begin, self.end, self.session.rate_hz)
        name = fingerprint("in", window, strip.media_id, strip.start_s, strip.trim_db, [f for f, _ in feeds], late)
        return name, self._made(
            name, lambda: node.gather(self.media, self.begin, self.end - self.begin, [s.audio for _, s in feeds])
        )

    def _leaving(self, feed: Feed) -> tuple[str, Stretch]:
        """What a strip, or a lane of it, feeds another with."""
        renderer = copy.copy(self)  # a search of its own: what it passes is not what is compared
        node = feed.node
        if any(node.strip.path.lanes()):
            # Its lanes may be asked for one by one, each time from states at rest.
            node = compile_plan(self.session, self.media, Rack(), Audition(solo=False), only=node.strip.id).nodes[-1]
        lane_id = None if feed.lane is None else feed.lane.lane.id
        renderer._scope, renderer._found, renderer._traces = Scope(node.strip.id, None, lane_id), None, []
        renderer._sending = True
        name, stretch = renderer._entering(node)
        name, stretch, _ = renderer._through(name, stretch, node.steps, node.latency_in)
        if feed.lane is None:
            placed = fingerprint("out", name, node.gains())
            return placed, self._made(placed, lambda: node.place(stretch.audio))
        assert renderer._found is not None
        sent = renderer._found[2]
        placed = fingerprint("lane out", renderer._found_name, feed.gains())
        return placed, self._made(placed, lambda: feed.placed(sent.audio))

    def _through(self, name: str, given: Stretch, steps: Sequence[StepNode], latency: int) -> tuple[str, Stretch, int]:
        """A row of steps; ends early where the scope is found."""
        for step in steps:
            before, before_latency = given, latency
            if isinstance(step, SplitNode) and not step.step.bypass:
                name, given = self._split(name, given, step, latency)
            else:
                name, given = self._after(name, given, step)
                self._traces.append((given, step.leaves))
            if self._found is not None:
                break
            latency = step.leaves
            if self._scope is not None and self._scope.step_id == step.step.id:
                self._found = (before, before_latency, given, latency)
                break
        return name, given, latency

    def _split(self, name: str, given: Stretch, split: SplitNode, latency: int) -> tuple[str, Stretch]:
        """A split's lanes and their sum. Only the lane that holds the scope is rendered if the scope lies inside."""
        scope, step = self._scope, split.step
        assert step.split is not None
        channels = given.audio.shape[0]
        entering = self._divided(name, given, split)
        enters = latency + split.late_by - max(lane.latency for lane in split.lanes)
        placed: list[tuple[str, Stretch]] = []
        sides: list[tuple[Stretch, int]] = []
        holding = [lane for lane in split.lanes if scope is not None and holds(lane, scope)]
        for lane, (lane_name, stretch) in zip(split.lanes, entering, strict=True):
            if holding and lane is not holding[0]:
                continue
            inner, inner_latency = stretch, enters
            chosen = scope is not None and scope.step_id is None and scope.lane_id == lane.lane.id
            if chosen:
                self._traces = []
            path_name, after, after_latency = self._through(lane_name, stretch, lane.steps, enters)
            if self._found is not None:
                return path_name, after
            if lane.lane.bypass:
                path_name, after, after_latency = lane_name, stretch, enters
            sides.append((after, after_latency))
            by = enters + lane.latency - after_latency  # a bypassed lane is as late as its path
            out = fingerprint("lane", path_name, by, lane.wait, lane.level, lane.share, lane.place, channels)
            joined = self._made(out, partial(self._placed, lane, after, by, channels))
            placed.append((out, joined))
            if chosen and not self._sending and lane.share != 1.0:
                # A lane is measured by itself, wherever the blend stands.
                out = fingerprint("lane alone", path_name, by, lane.wait, lane.level, lane.place, channels)
                joined = self._made(out, partial(in_place, lane, after, channels, by + lane.wait, lane.level))
            if chosen:
                whole = fingerprint("lane before", lane_name, lane.place, channels)
                untouched = self._made(whole, partial(in_place, lane, inner, channels))
                self._found = (untouched, inner_latency, joined, split.leaves)
                self._found_name = out
                return out, joined
        if scope is not None and scope.step_id == step.id:
            self._lanes = sides
        total = fingerprint("sum", [(n, lane.lane.output) for (n, _), lane in zip(placed, split.lanes, strict=True)])
        return total, self._made(total, lambda: split.joined([stretch.audio for _, stretch in placed]))

    def _divided(self, name: str, given: Stretch, split: SplitNode) -> list[tuple[str, Stretch]]:
        settings = split.step.split
        assert settings is not None
        if settings.by == "copies":
            return [(name, given)] * len(split.lanes)
        way = settings.model_dump_json(include={"by", "dividers_hz", "slope", "phase"})
        names = [fingerprint("divided", name, way, index) for index in range(len(split.lanes))]
        found = [self.cache.get(part) for part in names]
        if any(part is None for part in found):
            parts: list[list[Audio]] = [[] for _ in names]
            for at in range(0, given.audio.shape[1], CHUNK_FRAMES):
                if self.cancelled():
                    raise Cancelled
                for lane, block in zip(
                    parts, split.divide(np.ascontiguousarray(given.audio[:, at : at + CHUNK_FRAMES])), strict=True
                ):
                    lane.append(block)
            found = [Stretch(np.concatenate(lane, axis=1)) for lane in parts]
            for part, stretch in zip(names, found, strict=True):
                assert stretch is not None
                self.cache.put(part, stretch)
        return [(part, stretch) for part, stretch in zip(names, found, strict=True) if stretch is not None]

    @staticmethod
    def _placed(lane: LaneNode, after: Stretch, by: int, channels: int) -> Audio:
        return lane.placed(lane.past(after.audio, by) if by else after.audio, channels)

    def _after(self, name: str, given: Stretch, step: StepNode) -> tuple[str, Stretch]:
        made = fingerprint(
            "step",
            name,
            step.step.kind,
            step.step.settings.model_dump_json(),
            step.step.bypass,
            step.late_by,
            self.session.tempo_bpm,
        )
        found = self.cache.get(made)
        if found is not None:
            return made, found
        parts: list[Audio] = []
        told: list[Telemetry] = []
        for at in range(0, given.audio.shape[1], CHUNK_FRAMES):
            if self.cancelled():
                raise Cancelled
            parts.append(step.process(np.ascontiguousarray(given.audio[:, at : at + CHUNK_FRAMES])))
            told.append(step.processor.telemetry)
        stretch = Stretch(
            np.concatenate(parts, axis=1),
            np.concatenate([t.reduction_db for t in told]),
            np.concatenate([t.detector_db for t in told]),
            {row: np.concatenate([t.rows[row] for t in told]) for row in told[0].rows},
        )
        self.cache.put(made, stretch)
        return made, stretch

    def _made(self, name: str, make: Callable[[], Audio]) -> Stretch:
        if self.cancelled():
            raise Cancelled
        found = self.cache.get(name)
        if found is None:
            found = Stretch(make())
            self.cache.put(name, found)
        return found


def holds(lane: LaneNode, scope: Scope) -> bool:
    """Whether the scope is the lane or lies in it."""
    if scope.step_id is None:
        return scope.lane_id is not None and scope.lane_id in {lane.lane.id, *(part.id for part in lane.lane.path.lanes())}
    return any(step.step.id == scope.step_id for node in lane.steps for step in node.walk())


def in_place(lane: LaneNode, given: Stretch, channels: int, late: int = 0, level: float = 1.0) -> Audio:
    """What enters or leaves a lane as it would lie in the sum, some frames late."""
    x = Late(len(given.audio))(given.audio, late) if late else given.audio
    y = np.empty((channels, x.shape[1]), np.float32)
    left, right = lane.place
    mix.place(x, y, level * left, level * right, 1.0, np.zeros(mix.GLIDE_STATE))
    return y
