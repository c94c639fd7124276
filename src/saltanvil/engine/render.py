"""Offline: the same plan in larger blocks, nodes on all cores as their sources become ready."""

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Executor, ThreadPoolExecutor

import numpy as np

from saltanvil.engine import segments
from saltanvil.engine.audition import RENDERED
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.media import Audio, Media
from saltanvil.engine.memory import keep_freed_memory
from saltanvil.engine.nodes.base import NOTHING, Node
from saltanvil.engine.plan import Plan
from saltanvil.engine.rack import Rack
from saltanvil.engine.rendered import use_store
from saltanvil.engine.run_graph import THREADS
from saltanvil.engine.tail import MAX_TAIL_S, quiet_frames, with_tail
from saltanvil.engine.time import ceil_tick, floor_tick, preroll_start
from saltanvil.session.document.base import MAIN_ID, NotFound
from saltanvil.session.document.session import Session
from saltanvil.session.graph import NodeId


class Cancelled(Exception):
    """The work was cancelled."""


def render_nodes(
    session: Session,
    media: Media,
    wanted: Sequence[NodeId],
    start: int,
    stop: int,
    cancelled: Callable[[], bool] = lambda: False,
    pool: Executor | None = None,
    watch: Callable[[Plan], None] = lambda plan: None,
    begin: int | None = None,
) -> Iterator[list[Audio]]:
    """Frames start..stop of what leaves some nodes, block by block, each aligned with the session's time.

    begin: the tick that rendering begins at; None is the usual pre-roll before `start`.

    As rendered: solo and the session's low latency do not count. The blocks of all nodes are equally long. watch:
    told after each block. Raises
    Cancelled when `cancelled` says so, and NotFound for a node that the session does not have.
    """
    plan = compile_plan(session, media, Rack(), RENDERED, wanted)
    missing = [node for node in wanted if node not in plan.nodes]
    if missing:
        raise NotFound(f"there is no {missing[0].kind} {missing[0].id!r} in this session")
    yield from run_plan(plan, [plan.nodes[node] for node in wanted], start, stop, cancelled, pool, watch, begin)


def run_plan(
    plan: Plan,
    nodes: Sequence[Node],
    start: int,
    stop: int,
    cancelled: Callable[[], bool] = lambda: False,
    pool: Executor | None = None,
    watch: Callable[[Plan], None] = lambda plan: None,
    begin: int | None = None,
    telling: Sequence[Node] = (),
) -> Iterator[list[Audio]]:
    """As `render_nodes`, of a plan that nothing has run yet. telling: steps whose telemetry counts, and not their sound only."""
    keep_freed_memory()
    kept = {id(node) for node in nodes}

    def spent(node: Node) -> None:
        if id(node) not in kept:
            node.out = NOTHING

    if begin is None:
        begin = preroll_start(floor_tick(start), plan.session.rate_hz)
    end = ceil_tick(stop + max(node.latency_frames for node in nodes))
    if begin == 0:
        use_store(plan, [*nodes, *telling], end)
        if plan.store_links:
            end = -(-end // segments.SEGMENT_FRAMES) * segments.SEGMENT_FRAMES
    waiting = [[np.zeros((node.channels, 0), np.float32)] for node in nodes]
    delivered = start
    for at in range(begin, end, segments.SEGMENT_FRAMES):
        if cancelled():
            raise Cancelled
        frames = min(segments.SEGMENT_FRAMES, end - at)
        plan.run(at, frames, pool, spent)
        watch(plan)
        ready = stop
        for node, parts in zip(nodes, waiting, strict=True):
            first = at - node.latency_frames  # the session time of the block's first frame, as it leaves this node
            cut = node.out[:, max(start - first, 0) : max(stop - first, 0)]
            if cut.shape[1]:
                parts.append(cut)
            ready = min(ready, first + frames)
        if ready <= delivered:
            continue
        blocks = []
        for number, parts in enumerate(waiting):
            joined = np.concatenate(parts, axis=1)
            blocks.append(np.ascontiguousarray(joined[:, : ready - delivered]))
            waiting[number] = [joined[:, ready - delivered :]]
        delivered = ready
        yield blocks


def render_strips(
    session: Session,
    media: Media,
    start: int,
    stop: int,
    strip_ids: Sequence[str] = (MAIN_ID,),
    cancelled: Callable[[], bool] = lambda: False,
    tail: bool = False,
    begin: int | None = None,
    watch: Callable[[Plan], None] = lambda plan: None,
) -> Iterator[dict[str, Audio]]:
    """Frames start..stop of the outputs of strips, (2, frames), block by block; see `render_nodes` also for begin and watch.

    tail: and then what still sounds in any of them, until all have decayed or for MAX_TAIL_S at most.
    """
    nodes = [NodeId("out", name) for name in strip_ids]
    last = stop + round(MAX_TAIL_S * session.rate_hz) if tail else stop
    with ThreadPoolExecutor(THREADS) as pool:
        rendered = render_nodes(session, media, nodes, start, last, cancelled, pool, watch, begin)
        for blocks in with_tail(rendered, stop - start, quiet_frames(session)) if tail else rendered:
            yield dict(zip(strip_ids, blocks, strict=True))
