"""Values that move over time, read where the sound that is treated lies in the session.

    session time   0        512       1024      1536        grid, counted from the session's zero
    course         |---------|----x----|---------|          x: the tick behind a point, where a jump is
    a node reads   ^         ^    ^    ^         ^          and takes each value at the next tick of its own

A node treats sound that is late by what came before it, so it reads its courses that much earlier. What is read depends on
the session time alone: a play from anywhere, a loop and a render give the same samples. Between two readings settings glide as
they do when a hand moves them.
"""

from collections.abc import Callable, Mapping
from typing import Generic, TypeVar

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.dsp.state import Stateful
from saltanvil.session.document import SettingName
from saltanvil.session.envelopes import Course

#: How often a value that moves steadily is read: about as often as the time in which a setting glides.
GRID_FRAMES = 8 * TICK_FRAMES
#: Turns of the way that are remembered: loops that are shorter than the latency.
MAX_TURNS = 64

T = TypeVar("T")
U = TypeVar("U")


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

    def ticks(self, at: int, frames: int, latency: int) -> NDArray[np.int64]:
        """The session's frame of the sound at each tick of a block from the session's frame `at` on, `latency` frames late."""
        result = np.arange(at - latency, at - latency + frames, TICK_FRAMES, dtype=np.int64)
        begin = self.block[0]
        if len(self.turns) < 2 or begin - self.turns[-1][0] >= latency:
            return result
        stream = result + (begin - at)
        starts = np.array([start for start, _ in self.turns], np.int64)
        offsets = np.array([session - start for start, session in self.turns], np.int64)
        which = np.maximum(np.searchsorted(starts, stream, side="right") - 1, 0)
        return np.asarray(stream + offsets[which])


class Moving(Generic[T]):
    """What moves at one node. build: what the node needs, from the values of its courses by name."""

    def __init__(
        self,
        courses: Mapping[SettingName, Course],
        build: Callable[[dict[SettingName, float]], T],
        clock: Clock,
        latency: int,
        rate: int,
    ) -> None:
        self.courses, self.build, self.clock, self.latency, self.rate = dict(courses), build, clock, latency, rate
        breaks = np.unique(np.concatenate([course.breaks_s for course in self.courses.values()]))
        frames = np.ceil(breaks * rate - 1e-6).astype(np.int64)
        self._breaks = -(-frames // TICK_FRAMES) * TICK_FRAMES
        self._last: tuple[tuple[float, ...], T] | None = None

    def pieces(self, at: int, frames: int) -> list[tuple[int, int, T]]:
        """The block in pieces of whole ticks, (first frame, end, what holds there), as few as the values allow."""
        ticks = self.clock.ticks(at, frames, self.latency)
        reading = ticks // GRID_FRAMES * GRID_FRAMES
        behind = np.searchsorted(self._breaks, ticks, side="right") - 1
        reading = np.where(behind >= 0, np.maximum(reading, self._breaks[np.maximum(behind, 0)]), reading)
        starts = np.flatnonzero(np.diff(reading, prepend=reading[0] - 1))
        values = np.stack([course.at(reading[starts] / self.rate) for course in self.courses.values()])
        changes = np.flatnonzero(np.any(np.diff(values, axis=1) != 0.0, axis=0)) + 1
        kept = [0, *changes.tolist()]
        begins = [0, *(int(starts[index]) * TICK_FRAMES for index in kept[1:])]
        ends = [*begins[1:], frames]
        return [
            (begin, end, self._built(values[:, index]))
            for begin, end, index in zip(begins, ends, kept, strict=True)
        ]  # fmt: skip

    def _built(self, values: NDArray[np.float64]) -> T:
        key = tuple(values.tolist())
        if self._last is None or self._last[0] != key:
            self._last = key, self.build(dict(zip(self.courses, key, strict=True)))
        return self._last[1]

    def mapped(self, change: Callable[[T], U]) -> "Moving[U]":
        """The same times with something made of each value."""
        build = self.build
        return Moving(self.courses, lambda values: change(build(values)), self.clock, self.latency, self.rate)

    def later(self, latency: int) -> "Moving[T]":
        """The same for sound that is later or earlier."""
        return Moving(self.courses, self.build, self.clock, latency, self.rate)

    def cache_key(self) -> tuple[object, ...]:
        return self.latency, [(name, course.fingerprint()) for name, course in self.courses.items()]
