"""Values that move over time, read where the sound that is treated lies in the session.

    session time   0        512       1024      1536        grid, counted from the session's zero
    course         |---------|---x-----|---/-----|          x: a corner; /: a jump, a bend of JUMP_MS centred on its point
    a node goes    ^-------->^-->^---->^-->^>----^          in straight lines from reading to reading

A node treats sound that is late by what came before it, so it reads its courses that much earlier. It is told the value of the
next reading and how many of its ticks are left until then, and gets there in even steps: on time, and without stairs. What is
read depends on the session time alone: a play from anywhere, a loop and a render give the same samples.
"""

from collections.abc import Callable, Iterator, Mapping
from typing import Any, Generic, Protocol, TypeVar

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.dsp.state import Stateful
from saltanvil.session.document.automation import SettingName
from saltanvil.session.envelopes import Course

#: How often a gain that moves steadily is read; in between it lies on a straight line. Processors have their own `grid_ticks`.
GAIN_GRID_FRAMES = 4 * TICK_FRAMES
#: A jump is a smooth way as long as this, in so many lines: short enough for a cut, too long to click.
JUMP_MS, JUMP_LINES = 20.0, 8
#: So many ticks after a course was exchanged for another one its values glide instead.
EASING_TICKS = 18
#: Readings are made for stretches of the session, of which a few are kept.
WINDOW_FRAMES = 512 * TICK_FRAMES
KEPT_WINDOWS = 16
#: On either side of a point values are looked at, in seconds; what differs by more than this share has jumped.
SIDE_S, JUMPS_FROM = 1e-7, 1e-5
#: Where a run began before which nothing was.
NEVER = -(1 << 62)
#: Turns of the way that are remembered: loops that are shorter than the latency.
MAX_TURNS = 64

#: What a state follows that comes from a render in which it had gone along the same course.
RESUMED = object()

T = TypeVar("T")
U = TypeVar("U")
#: Session frames of readings, and the values there, (courses, readings).
Readings = tuple[NDArray[np.int64], NDArray[np.float64]]
#: Frames of a block from one to another, what is to hold at the end of the way that they lie on, and how many ticks that is off
#: from the first of them; 0: it stands still, or glides there.
Piece = tuple[int, int, T, int]


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

    def runs(self, at: int, frames: int, latency: int) -> list[tuple[int, int, int, int]]:
        """The sound of a block from the session's frame `at` on that is `latency` frames late, in runs without a turn: (frame of
        the block, its end, the session's frame at its begin, the session's frame at which the run began; the first did NEVER)."""
        begin = self.block[0]
        if len(self.turns) < 2 or begin - self.turns[-1][0] >= latency:
            return [(0, frames, at - latency, self.turns[-1][1] if len(self.turns) > 1 else NEVER)]
        result = []
        start, end = begin - latency, begin - latency + frames
        for index, (turn, session) in enumerate(self.turns):
            first = start if index == 0 else max(turn, start)
            last = min(self.turns[index + 1][0], end) if index + 1 < len(self.turns) else end
            if first < last:
                result.append((first - start, last - start, session + first - turn, session if index else NEVER))
        return result


class Follower(Protocol):
    """What has a state and may follow a course."""

    follows: Any

    @property
    def started(self) -> bool: ...


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
        grid_frames: int = GAIN_GRID_FRAMES,
    ) -> None:
        self.courses, self.build, self.clock, self.latency, self.rate = dict(courses), build, clock, latency, rate
        self.grid_frames = grid_frames
        breaks = np.unique(np.concatenate([course.breaks_s for course in self.courses.values()]))
        before, after = (self._values(breaks + side) for side in (-SIDE_S, SIDE_S))
        jumps = np.any(np.abs(after - before) > JUMPS_FROM * np.maximum(np.abs(after), 1.0), axis=0)
        half = JUMP_MS / 2000.0 * rate
        #: Corners, and the ways that jumps become, in session frames.
        self._corners = np.rint(breaks[~jumps] * rate).astype(np.int64)
        middles = breaks[jumps] * rate
        self._jumps = np.stack([np.rint(middles - half), np.rint(middles + half)], axis=-1).astype(np.int64).reshape(-1, 2)
        self._read: dict[int, Readings] = {}
        self._last: tuple[tuple[float, ...], T] | None = None
        #: Frames of the play until which values glide, as the course was another one before.
        self.easing = NEVER

    def _values(self, times_s: NDArray[np.float64]) -> NDArray[np.float64]:
        """(courses, times)."""
        return np.stack([course.at(times_s) for course in self.courses.values()])

    def pieces(self, at: int, frames: int) -> list[Piece[T]]:
        """The block in pieces of whole ticks, as few as the values allow."""
        pieces: list[tuple[int, tuple[float, ...], int]] = []
        for first, last, session, began in self.clock.runs(at, frames, self.latency):
            tick = -(-first // TICK_FRAMES) * TICK_FRAMES  # a turn between two ticks counts from the next one on
            if tick >= last:
                continue
            for begin, values, ticks in self._ways(session + tick - first, last - tick, began):
                if not pieces or pieces[-1][1] != values or ticks or pieces[-1][2]:
                    pieces.append((tick + begin, values, ticks))
        ends = [*(begin for begin, *_ in pieces[1:]), frames]
        return [(begin, end, self._built(values), ticks) for (begin, values, ticks), end in zip(pieces, ends, strict=True)]

    def here(self, at: int, frames: int) -> T:
        """What holds at a block's first tick."""
        first, _, session, _ = self.clock.runs(at, frames, self.latency)[0]
        start = session - first + -(-first // TICK_FRAMES) * TICK_FRAMES
        points, table = self._readings(start, start)
        return self.build({name: float(np.interp(start, points, row)) for name, row in zip(self.courses, table, strict=True)})

    def _ways(self, start: int, frames: int, began: int) -> Iterator[tuple[int, tuple[float, ...], int]]:
        """From a session's frame on, at which a tick of the node begins: each way's begin, counted from there, the values at its
        end, and the ticks that are left until then. On the way on which a run began what came before lay elsewhere."""
        points, table = self._readings(start, start + frames)
        edges = np.unique(-(-(points - start) // TICK_FRAMES) * TICK_FRAMES)  # the first ticks at or behind the readings
        places = np.stack([np.interp(start + edges, points, row) for row in table])
        gliding = self.easing - self.clock.block[0]
        for index in range(max(int(np.searchsorted(edges, 0, side="right")) - 1, 0), len(edges) - 1):
            begin = max(int(edges[index]), 0)
            if begin >= frames:
                return
            still = bool((places[:, index] == places[:, index + 1]).all())
            glides = still or start + int(edges[index]) < began or int(edges[index]) < gliding
            ticks = 0 if glides else (int(edges[index + 1]) - begin) // TICK_FRAMES
            yield begin, tuple(places[:, index + 1].tolist()), ticks

    def _readings(self, start: int, end: int) -> Readings:
        """Those around a stretch of the session: from the one before it to some behind it."""
        windows = [self._window(window) for window in range(start // WINDOW_FRAMES, end // WINDOW_FRAMES + 2)]
        points = np.concatenate([part[0] for part in windows])
        table = np.concatenate([part[1] for part in windows], axis=1)
        low = max(int(np.searchsorted(points, start, side="right")) - 1, 0)
        high = int(np.searchsorted(points, end + TICK_FRAMES)) + 3
        return points[low:high], table[:, low:high]

    def _window(self, window: int) -> Readings:
        """All readings of a window of the session, but for those between which nothing changes."""
        known = self._read.get(window)
        if known is None:
            start, end = window * WINDOW_FRAMES, (window + 1) * WINDOW_FRAMES
            grid = np.arange(start, end, self.grid_frames, dtype=np.int64)
            near = self._jumps[(self._jumps[:, 1] > start) & (self._jumps[:, 0] < end)]
            ways = np.rint(np.linspace(near[:, 0], near[:, 1], JUMP_LINES + 1)).astype(np.int64)
            special = np.concatenate([self._corners, ways.ravel()])
            # A node's ticks need not lie on them: none of the way behind one is gone before it.
            special = np.concatenate([special, special - TICK_FRAMES])
            points = np.unique(np.concatenate([grid, special[(special > start) & (special < end)]]))
            table = self._values(points / self.rate)
            for low, high in near:
                inside = (points > low) & (points < high)
                ends = self._values(np.array([low, high]) / self.rate)
                share = (points[inside] - low) / (high - low)
                table[:, inside] = ends[:, :1] + (ends[:, 1:] - ends[:, :1]) * share * share * (3.0 - 2.0 * share)
            changes = np.any(np.diff(table, axis=1) != 0.0, axis=0)
            kept = np.ones(len(points), bool)
            kept[1:-1] = changes[:-1] | changes[1:]
            kept[:-1] |= kept[1:]
            known = points[kept], np.ascontiguousarray(table[:, kept])
            if len(self._read) >= KEPT_WINDOWS:
                self._read = {}
            self._read = {**self._read, window: known}
        return known

    def _built(self, values: tuple[float, ...]) -> T:
        last = self._last
        if last is None or last[0] != values:
            last = self._last = values, self.build(dict(zip(self.courses, values, strict=True)))
        return last[1]

    def leads(self, follower: "Follower") -> None:
        """The state goes on with this course from the present block on. Where it had none or another one before, its values glide
        over for a while."""
        before, follower.follows = follower.follows, self
        if before is RESUMED:
            return
        if follower.started and (before is None or before.cache_key() != self.cache_key()):
            self.easing = self.clock.block[0] + EASING_TICKS * TICK_FRAMES

    def mapped(self, change: Callable[[T], U]) -> "Moving[U]":
        """The same times with something made of each value."""
        build = self.build
        return Moving(self.courses, lambda values: change(build(values)), self.clock, self.latency, self.rate, self.grid_frames)

    def later(self, latency: int) -> "Moving[T]":
        """The same for sound that is later or earlier."""
        return Moving(self.courses, self.build, self.clock, latency, self.rate, self.grid_frames)

    def cache_key(self) -> tuple[object, ...]:
        return self.latency, [(name, course.fingerprint()) for name, course in self.courses.items()]
