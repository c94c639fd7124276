"""Before and after of a scope over a passage, from cached stretches: an edit of step n renders from n on."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.engine.cache import Stretch, StretchCache, fingerprint
from saltanvil.engine.plan import (
    Audio,
    Audition,
    Media,
    Node,
    Rack,
    Scope,
    StepNode,
    ceil_tick,
    compile_plan,
    floor_tick,
    preroll_start,
)
from saltanvil.engine.render import Cancelled
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

    def compare(self, scope: Scope) -> Compared:
        """Raises LookupError if the scope is not there."""
        self.session.strip(scope.strip_id)
        if scope.step_id is not None:
            self.session.step(scope.step_id)
        plan = compile_plan(self.session, self.media, Rack(), Audition(solo=False), only=scope.strip_id)
        node = plan.nodes[-1]
        self.end = ceil_tick(self.stop) + -(-max(node.latency, 1) // ROOM_FRAMES) * ROOM_FRAMES
        name, stretch = self._entering(node)
        latency = node.latency_in
        before, before_latency = stretch, latency
        traces: list[tuple[Stretch, int]] = []
        for step in node.steps:
            if step.step.id == scope.step_id:
                before, before_latency = stretch, latency
            name, stretch = self._after(name, stretch, step)
            latency += step.late_by
            if step.step.id == scope.step_id:
                traces = [(stretch, latency)]
                break
            if scope.step_id is None and len(stretch.reduction_db):
                traces.append((stretch, latency))
        reduction, detector = np.empty(0, np.float32), np.empty(0, np.float32)
        rows: dict[str, NDArray[np.float32]] = {}
        if traces:
            best, at = max(traces, key=lambda t: float(np.abs(t[0].reduction_db).max(initial=0.0)))
            reduction, detector = self._ticks(best.reduction_db, at), self._ticks(best.detector_db, at)
            if scope.step_id is not None:
                rows = {name: self._ticks(values, at) for name, values in best.rows.items()}
        return Compared(
            self._cut(before.audio, before_latency),
            self._cut(stretch.audio, latency),
            reduction,
            detector,
            latency - before_latency,
            node.latency,
            rows,
        )

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
            run = self.pool.map if self.pool is not None and not any(n.inputs for n, _ in node.inputs) else map
            feeds = list(run(lambda pair: self._leaving(pair[0]), node.inputs))
        late = [node.latency_in - child.latency for child, _ in node.inputs]
        window = (self.begin, self.end, self.session.rate_hz)
        name = fingerprint("in", window, strip.media_id, strip.start_s, strip.trim_db, [f for f, _ in feeds], late)
        return name, self._made(
            name, lambda: node.gather(self.media, self.begin, self.end - self.begin, [s.audio for _, s in feeds])
        )

    def _leaving(self, node: Node) -> tuple[str, Stretch]:
        name, stretch = self._entering(node)
        for step in node.steps:
            name, stretch = self._after(name, stretch, step)
        placed = fingerprint("out", name, node.gains())
        return placed, self._made(placed, lambda: node.place(stretch.audio))

    def _after(self, name: str, given: Stretch, step: StepNode) -> tuple[str, Stretch]:
        made = fingerprint(
            "step", name, step.step.kind, step.step.settings.model_dump_json(), step.step.bypass, self.session.tempo_bpm
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
