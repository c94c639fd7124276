"""Offline: the same plan in larger blocks, strips of one generation on all cores."""

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from saltanvil.engine.audition import Audition
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.media import Media
from saltanvil.engine.memory import keep_freed_memory
from saltanvil.engine.rack import Audio, Rack
from saltanvil.engine.run_graph import THREADS
from saltanvil.engine.time import ceil_tick, floor_tick, preroll_start
from saltanvil.session.document import MAIN_ID, Session

#: Long enough that two threads seldom wait for the interpreter lock: 8192 runs at a third of the speed.
BLOCK_FRAMES = 1 << 16


class Cancelled(Exception):
    """The work was called off."""


def render_strips(
    session: Session,
    media: Media,
    start: int,
    stop: int,
    strip_ids: Sequence[str] = (MAIN_ID,),
    cancelled: Callable[[], bool] = lambda: False,
) -> Iterator[dict[str, Audio]]:
    """Frames start..stop of the outputs of strips, block by block, aligned with the session's time.

    Solo and the session's low latency are matters of listening and are not rendered; mute is. Blocks are equal in
    length for all strips. Raises Cancelled when `cancelled` says so.
    """
    keep_freed_memory()
    session = session.model_copy(update={"low_latency": False})
    plan = compile_plan(session, media, Rack(), Audition(solo=False))
    latencies = {strip_id: plan.node(strip_id).latency for strip_id in strip_ids}
    begin = preroll_start(floor_tick(start), session.rate_hz)
    end = ceil_tick(stop + plan.latency_frames)
    waiting = {strip_id: [np.zeros((2, 0), np.float32)] for strip_id in strip_ids}
    given = start
    with ThreadPoolExecutor(THREADS) as pool:
        for at in range(begin, end, BLOCK_FRAMES):
            if cancelled():
                raise Cancelled
            frames = min(BLOCK_FRAMES, end - at)
            plan.render(at, frames, pool)
            ready = stop
            for strip_id, latency in latencies.items():
                output = plan.node(strip_id).output
                first = at - latency  # the session time of the block's first frame, as it leaves this strip
                cut = output[:, max(start - first, 0) : max(stop - first, 0)]
                if cut.shape[1]:
                    waiting[strip_id].append(cut)
                ready = min(ready, first + frames)
            if ready <= given:
                continue
            blocks = {}
            for strip_id, parts in waiting.items():
                joined = np.concatenate(parts, axis=1)
                blocks[strip_id] = np.ascontiguousarray(joined[:, : ready - given])
                waiting[strip_id] = [joined[:, ready - given :]]
            given = ready
            yield blocks
