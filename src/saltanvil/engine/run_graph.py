"""Work on points whose sources must come first, spread over the threads of a pool."""

import os
import threading
from collections.abc import Callable, Sequence
from concurrent.futures import Executor

from saltanvil.engine.nodes.base import Node

THREADS = os.cpu_count() or 1


def run_graph(
    nodes: Sequence[Node],
    work: Callable[[Node], None],
    pool: Executor,
    spent: Callable[[Node], None] = lambda node: None,
) -> None:
    """Call `work` for every node after all of its sources among the nodes. The caller's thread works too.

    spent: called for a node when all that is made of it is done.

    What became ready last is taken first, so that a strip's steps follow each other on one thread while its sound is
    at hand. Raises what the work raises; work begun is finished first.
    """
    inside = {id(node) for node in nodes}
    after: dict[int, list[Node]] = {}
    missing: dict[int, int] = {}
    sources: dict[int, dict[int, Node]] = {}
    for node in nodes:
        own = sources[id(node)] = {id(source): source for source in node.sources if id(source) in inside}
        missing[id(node)] = len(own)
        for source in own:
            after.setdefault(source, []).append(node)
    uses = {source: len(readers) for source, readers in after.items()}
    ready = [node for node in reversed(nodes) if not missing[id(node)]]
    left = len(nodes)
    failed: list[BaseException] = []
    condition = threading.Condition()

    def run() -> None:
        nonlocal left
        while True:
            with condition:
                while not ready and left and not failed:
                    condition.wait()
                if not left or failed:
                    return
                node = ready.pop()
            try:
                work(node)
            except BaseException as error:
                with condition:
                    failed.append(error)
                    condition.notify_all()
                return
            with condition:
                left -= 1
                for name, source in sources[id(node)].items():
                    uses[name] -= 1
                    if not uses[name]:
                        spent(source)
                readers = after.get(id(node), ())
                for other in readers:
                    missing[id(other)] -= 1
                    if not missing[id(other)]:
                        ready.append(other)
                if readers or not left:
                    condition.notify_all()

    helpers = [pool.submit(run) for _ in range(THREADS - 1)]
    run()
    for helper in helpers:
        if not helper.cancel():
            helper.result()
    if failed:
        try:
            raise failed[0]
        finally:
            failed.clear()  # an error holds the frames it came through: where they hold it too, all they hold stays
