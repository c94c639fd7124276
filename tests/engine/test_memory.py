"""What is done with is gone at once: nothing big waits for the collector of cycles, which looks through a long-running process
only now and then."""

import contextlib
import gc
import types
from collections import Counter, deque
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest

from saltanvil.engine.audition import Audition, Scope
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.render import Cancelled, render_strips
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.engine.stream import BLOCK_FRAMES, Stream
from saltanvil.engine.wanted import Wanted
from saltanvil.session.document.base import MAIN_ID
from tests.engine.test_stream import MEDIA, RATE, SESSIONS

#: Of an array: a block of stereo at the length of a chunk.
BIG = 100_000


def left_over(work):
    """The objects with big arrays, and the compiled sessions, that only the collector can free."""
    work()  # what it caches once is no garbage
    gc.collect()
    gc.disable()
    gc.set_debug(gc.DEBUG_SAVEALL)
    try:
        work()
        gc.collect()
        held = [
            type(found).__name__
            for found in gc.garbage
            if type(found).__name__ in ("Plan", "Rack", "Graph", "Stream", "ScopeRenderer")
            or (not isinstance(found, types.FrameType) and any(big(part) for part in gc.get_referents(found)))
        ]
        return Counter(held)
    finally:
        gc.set_debug(0)
        gc.garbage.clear()
        gc.enable()


def big(part):
    return type(part) is np.ndarray and part.nbytes >= BIG


def test_the_search_finds_a_cycle():
    def work():
        held = [np.zeros(BIG)]
        held.append(held)

    assert left_over(work) == {"list": 1}


def test_a_play_with_edits_leaves_nothing_behind():
    def work():
        listening = Audition(Scope("a", "c"), "difference")
        stream = Stream(MEDIA, Wanted(SESSIONS[0], listening), 0, 1)
        for turn in range(30):
            if turn % 4 == 3:
                stream.take_back(max(0, stream.frames - 4 * BLOCK_FRAMES))
            stream.next(Wanted(SESSIONS[turn // 4 % len(SESSIONS)], listening), 0.3)

    assert not left_over(work)


@pytest.mark.parametrize("asked", [1, 4, 10_000])
def test_a_study_and_a_render_leave_nothing_behind_also_when_they_are_called_off(asked):
    def work():
        count = 0

        def cancelled():
            nonlocal count
            count += 1
            return count > asked

        with ThreadPoolExecutor(2) as pool, contextlib.suppress(Cancelled):
            ScopeRenderer(SESSIONS[6], MEDIA, SegmentCache(1 << 20), 0, 2 * RATE, cancelled, pool).compare(Scope(MAIN_ID))
        with contextlib.suppress(Cancelled):
            deque(render_strips(SESSIONS[6], MEDIA, 0, RATE, [MAIN_ID], cancelled), maxlen=0)

    assert not left_over(work)
