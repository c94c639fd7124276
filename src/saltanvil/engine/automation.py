"""Values that move over time, read where the sound that is treated lies in the session.

    session time   0        1024      2048      3072        grid, counted from the session's zero
    course         |---------|----x----|---------|          x: the tick behind a point, where a jump is
    a node reads   ^         ^    ^    ^         ^          and takes each value at the next tick of its own

A node treats sound that is late by what came before it, so it reads its courses that much earlier. What is read depends on
the session time alone: a play from anywhere, a loop and a render give the same samples. Between two readings settings glide as
they do when a hand moves them.
"""

from bisect import bisect_left, bisect_right
from collections.abc import Callable, Iterator, Mapping
from typing import Generic, TypeVar

import numpy as np

from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.dsp.state import Stateful
from saltanvil.session.document.automation import SettingName
from saltanvil.session.envelopes import Course

#: How often a value that moves steadily is read: of a processor's settings, whose coefficients are worked out anew, every
#: sixteenth tick; of a gain every fourth, within the time in which it glides.
GRID_FRAMES = 16 * TICK_FRAMES
GAIN_GRID_FRAMES = 4 * TICK_FRAMES
#: Readings are made for stretches of the session, of which a few are kept.
WINDOW_FRAMES = 32 * GRID_FRAMES
KEPT_WINDOWS = 16
#: Turns of the way that are remembered: loops that are shorter than the latency.
MAX_TURNS = 64

T = TypeVar("T")
U = TypeVar("U")
#: Session frames at which something changes, and the values from there on.
Readings = tuple[list[int], list[tuple[float, ...]]]


class Clock(Stateful):
    """Where in the session each frame of a play lies. The two part where a passage loops."""

    state = ("turns", "block")

    def __init__(self) -> None:
        #: Frames of the play from which on the session's are others, with the session's frame there.
        self.turns: list[tuple[int, int]] = []
        #: The play's frame at which the present block begins, and its length.
        self.block = [0, 0]

    def advance(self, at: int, frames: int) -> None:
        """A block of `frames` from the session's frame `at` on follows."""
        begin = sum(self.block)
        if not self.turns or self.turns[-1][1] + begin - self.turns[-1][0] != at:
            self.turns = [*self.turns[-MAX_TURNS + 1 :], (begin, at)]
        self.block = [begin, frames]

    def runs(self, at: int, frames: int, latency: int) -> list[tuple[int, int, int]]:
        """The sound of a block from the session's frame `at` on that is `latency` frames late, in runs without a turn: (frame of
        the block, its end, the session's frame at its begin)."""
        begin = self.block[0]
        if len(self.turns) < 2 or begin - self.turns[-1][0] >= latency:
            return [(0, frames, at - latency)]
        result = []
        start, end = begin - latency, begin - latency + frames
        for index, (turn, session) in enumerate(self.turns):
            first = start if index == 0 else max(turn, start)
            last = min(self.turns[index + 1][0], end) if index + 1 < len(self.turns) else end
            if first < last:
                result.append((first - start, last - start, session + first - turn))
        return result


class Moving(Generic[T]):
    """What moves at one node. build: what the node needs, from the values of its courses by name; grid_frames: how often a steady
    movement is read."""

    def __init__(
        self,
        courses: Mapping[SettingName, Course],
        build: Callable[[dict[SettingName, float]], T],
        clock: Clock,
        latency: int,
        rate: int,
        grid_frames: int = GRID_FRAMES,
    ) -> None:
        self.courses, self.build, self.clock, self.latency, self.rate = dict(courses), build, clock, latency, rate
        self.grid_frames = grid_frames
        breaks = np.unique(np.concatenate([course.breaks_s for course in self.courses.values()]))
        frames = np.ceil(breaks * rate - 1e-6).astype(np.int64)
        #: The ticks behind the points, where a jump is read.
        self._breaks = -(-frames // TICK_FRAMES) * TICK_FRAMES
        self._read: dict[int, Readings] = {}
        self._last: tuple[tuple[float, ...], T] | None = None

    def pieces(self, at: int, frames: int) -> list[tuple[int, int, T]]:
        """The block in pieces of whole ticks, (first frame, end, what holds there), as few as the values allow."""
        pieces: list[tuple[int, tuple[float, ...]]] = []
        for first, last, session in self.clock.runs(at, frames, self.latency):
            tick = -(-first // TICK_FRAMES) * TICK_FRAMES  # a turn between two ticks counts from the next one on
            if tick >= last:
                continue
            for when, values in self._between(session + tick - first, session + last - first):
                begin = tick + -(-max(when - session - tick + first, 0) // TICK_FRAMES) * TICK_FRAMES
                if begin >= last:
                    break
                if pieces and pieces[-1][0] == begin:
                    pieces.pop()
                if not pieces or pieces[-1][1] != values:
                    pieces.append((begin, values))
        ends = [*(begin for begin, _ in pieces[1:]), frames]
        return [(begin, end, self._built(values)) for (begin, values), end in zip(pieces, ends, strict=True)]

    def _between(self, start: int, end: int) -> Iterator[tuple[int, tuple[float, ...]]]:
        """What is read from a session's frame up to another: what holds at the first, and then every change."""
        for window in range(start // WINDOW_FRAMES, -(-end // WINDOW_FRAMES)):
            points, values = self._readings(window)
            low = max(bisect_right(points, start) - 1, 0)
            for index in range(low, bisect_left(points, end)):
                yield points[index], values[index]

    def _readings(self, window: int) -> "Readings":
        """All readings of a window of the session, but for those that change nothing."""
        known = self._read.get(window)
        if known is None:
            start, end = window * WINDOW_FRAMES, (window + 1) * WINDOW_FRAMES
            inside = self._breaks[np.searchsorted(self._breaks, start) : np.searchsorted(self._breaks, end)]
            points = np.unique(np.concatenate([np.arange(start, end, self.grid_frames, dtype=np.int64), inside]))
            table = np.stack([course.at(points / self.rate) for course in self.courses.values()])
            changes = [0, *(np.flatnonzero(np.any(np.diff(table, axis=1) != 0.0, axis=0)) + 1).tolist()]
            known = points[changes].tolist(), [tuple(column) for column in table[:, changes].T.tolist()]
            if len(self._read) >= KEPT_WINDOWS:
                self._read = {}
            self._read = {**self._read, window: known}
        return known

    def _built(self, values: tuple[float, ...]) -> T:
        last = self._last
        if last is None or last[0] != values:
            last = self._last = values, self.build(dict(zip(self.courses, values, strict=True)))
        return last[1]

    def mapped(self, change: Callable[[T], U]) -> "Moving[U]":
        """The same times with something made of each value."""
        build = self.build
        return Moving(self.courses, lambda values: change(build(values)), self.clock, self.latency, self.rate, self.grid_frames)

    def later(self, latency: int) -> "Moving[T]":
        """The same for sound that is later or earlier."""
        return Moving(self.courses, self.build, self.clock, latency, self.rate, self.grid_frames)

    def cache_key(self) -> tuple[object, ...]:
        return self.latency, [(name, course.fingerprint()) for name, course in self.courses.items()]
