"""Several scopes over a stretch of the session in one render: as a file would hold them, whatever was rendered before.

Where a renderer of passages keeps the sound of every step for the next edit (`scope.py`), this keeps none.
"""

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Executor

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.engine.audition import RENDERED, Scope
from saltanvil.engine.cache import fingerprint, fingerprints
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.media import Media
from saltanvil.engine.nodes.step import StepNode
from saltanvil.engine.plan import Plan
from saltanvil.engine.rack import Audio, Rack
from saltanvil.engine.render import run_plan
from saltanvil.engine.scope import points_of, scope_nodes
from saltanvil.session.document.session import Session

NO_TICKS = np.empty(0, np.float32)


class ScopesRender:
    """The first `frames` of a session. Raises NotFound if a scope is not there."""

    def __init__(self, session: Session, media: Media, scopes: Sequence[Scope], frames: int) -> None:
        for scope in scopes:
            session.strip(scope.strip_id)
        self.session, self.frames = session, frames
        points = [point for scope in scopes for point in points_of(scope)]
        self._plan = compile_plan(session, media, Rack(), RENDERED, dict.fromkeys(points))
        self._scopes = [scope_nodes(self._plan, scope) for scope in scopes]
        steps = {id(step): step for scope in self._scopes for step in scope.tracing}
        #: What each step told, block by block; None for one that tells nothing.
        self._telemetry: dict[int, tuple[StepNode, list[NDArray[np.float32]]]] = {
            name: (step, []) for name, step in steps.items()
        }

    def names(self) -> list[str]:
        """Of what each scope will be: equal names, equal sound and equal gain reduction."""
        names = fingerprints(self._plan, (0, self.frames, self.session.rate_hz))
        return [
            fingerprint(names[id(one.before)], names[id(one.after)], [names[id(step)] for step in one.tracing],
                        None if one.placed is None else one.placed.cache_key())
            for one in self._scopes
        ]  # fmt: skip

    def blocks(
        self, cancelled: Callable[[], bool] = lambda: False, pool: Executor | None = None
    ) -> Iterator[list[tuple[Audio, Audio]]]:
        """What enters and leaves each scope, (channels, frames), from frame 0 on, once. Raises Cancelled."""
        nodes = list({id(node): node for one in self._scopes for node in (one.before, one.after)}.values())
        telling = [step for one in self._scopes for step in one.tracing]
        at = 0
        for blocks in run_plan(self._plan, nodes, 0, self.frames, cancelled, pool, self._listen, begin=0, telling=telling):
            sound = {id(node): block for node, block in zip(nodes, blocks, strict=True)}
            yield [one.sides(sound[id(one.before)], sound[id(one.after)], at) for one in self._scopes]
            at += blocks[0].shape[1]

    def _listen(self, plan: Plan) -> None:
        for step, ticks in self._telemetry.values():
            ticks.append(step.processor.telemetry.reduction_db)

    def reduction_db(self, index: int, start: int, stop: int) -> NDArray[np.float32]:
        """Per tick of frames start..stop, of the step of a scope that took most there; empty if none reduces. Once all blocks
        have been made."""
        parts = [self._ticks(step, start, stop) for step in self._scopes[index].tracing]
        return max(parts, key=lambda part: float(np.abs(part).max(initial=-1.0)), default=NO_TICKS)

    def _ticks(self, step: StepNode, start: int, stop: int) -> NDArray[np.float32]:
        ticks = np.concatenate([NO_TICKS, *self._telemetry[id(step)][1]])
        if not len(ticks):
            return NO_TICKS
        first = (start + step.latency_frames) // TICK_FRAMES
        return ticks[first : first + -(-(stop - start) // TICK_FRAMES)]
