"""A scope over a passage of any length: measured whole, kept only as figures, envelopes and its loudest stretch.

A short passage is one window, and its sound is at hand. A longer one is worked through window by window, each with the pre-roll
that any passage has, so that memory does not grow with it: figures, reduction and picture are of the whole, what a processor
says of the sound itself is of the loudest window.
"""

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.envelope import extremes
from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.engine.audition import Scope
from saltanvil.engine.scope import ScopeAudio, ScopeRenderer
from saltanvil.measure.figures import Figures, FiguresMeter, louder_db

#: Sound that a window may hold of all strips together, and the shortest and longest window.
WINDOW_BYTES = 128 << 20
MIN_WINDOW_S, MAX_WINDOW_S = 10.0, 60.0
#: Frames of a bin of the kept envelopes: some two thousand a minute.
BIN_FRAMES = 16 * TICK_FRAMES

Render = Callable[[int, int], ScopeRenderer]


@dataclass(frozen=True)
class Envelopes:
    """(3, bins) each: lowest and highest sample and mean square of bins of BIN_FRAMES; moved: of after less before at the gain
    of untouched sound."""

    before: NDArray[np.float32]
    after: NDArray[np.float32]
    moved: NDArray[np.float32]


@dataclass(frozen=True)
class MeasuredPassage:
    """A compared scope. found: its sound, or that of its loudest window. envelopes: None where `found` is the whole.

    reduction_db, detector_db, rows: per tick, of the whole passage. louder_db: loudness of after less that of before.
    """

    result: ScopeAudio
    figures_before: Figures
    figures_after: Figures
    louder_db: float
    reduction_db: NDArray[np.float32]
    detector_db: NDArray[np.float32]
    rows: dict[str, NDArray[np.float32]]
    frames: int
    envelopes: Envelopes | None = None


def window_frames(strips: int, rate: int) -> int:
    """A whole number of bins, so that those of all windows meet."""
    seconds = WINDOW_BYTES / (8.0 * rate * max(strips, 1))
    frames = min(max(seconds, MIN_WINDOW_S), MAX_WINDOW_S) * rate
    return math.ceil(frames / BIN_FRAMES) * BIN_FRAMES


def windows(start: int, stop: int, length: int) -> Iterator[tuple[int, int]]:
    """Of equal length; a rest too short to be measured by itself belongs to the last."""
    at = start
    while at < stop:
        end = at + length if stop - at - length >= BIN_FRAMES else stop
        yield at, end
        at = end


def measured(render: Render, scope: Scope, start: int, stop: int, linear_gain_db: float = 0.0) -> MeasuredPassage:
    """A scope over frames start..stop. render: makes a renderer of a window. Raises NotFound, Cancelled."""
    session = render(start, min(stop, start + BIN_FRAMES)).session
    rate = session.rate_hz
    spans = list(windows(start, stop, window_frames(len(session.strips), rate)))
    if len(spans) == 1:
        return passage_of(render(start, stop).compare(scope), rate)
    through = np.float32(10.0 ** (linear_gain_db / 20.0))
    before = after = None
    loudest, best = -math.inf, None
    parts: list[ScopeAudio] = []
    bins: list[tuple[NDArray[np.float32], ...]] = []
    for first, last in spans:
        result = render(first, last).compare(scope)
        if before is None or after is None:
            before, after = FiguresMeter(len(result.before), rate), FiguresMeter(len(result.after), rate)
        before.add(result.before)
        after.add(result.after)
        bins.append(tuple(map(binned, (result.before, result.after, result.after / through - result.before))))
        power = max(float(bins[-1][0][2].mean()), float(bins[-1][1][2].mean()))
        if power > loudest:
            loudest, best = power, result
        empty = np.empty((1, 0), np.float32)
        parts.append(ScopeAudio(empty, empty, result.reduction_db, result.detector_db, 0, 0, result.rows))
    assert before is not None and after is not None and best is not None
    return MeasuredPassage(
        best,
        before.figures(),
        after.figures(),
        louder_db(before.energies(), after.energies()),
        np.concatenate([part.reduction_db for part in parts]),
        np.concatenate([part.detector_db for part in parts]),
        {row: np.concatenate([part.rows[row] for part in parts]) for row in best.rows},
        stop - start,
        Envelopes(*(np.concatenate(of, axis=1) for of in zip(*bins, strict=True))),
    )


def passage_of(result: ScopeAudio, rate: int) -> MeasuredPassage:
    """Of sound that is at hand whole."""
    before, after = FiguresMeter(len(result.before), rate), FiguresMeter(len(result.after), rate)
    before.add(result.before)
    after.add(result.after)
    louder = louder_db(before.energies(), after.energies())
    return MeasuredPassage(
        result,
        before.figures(),
        after.figures(),
        louder,
        result.reduction_db,
        result.detector_db,
        result.rows,
        result.before.shape[1],
    )


def binned(x: NDArray[np.float32]) -> NDArray[np.float32]:
    out = np.empty((3, -(-x.shape[1] // BIN_FRAMES)), np.float32)
    extremes(np.ascontiguousarray(x), BIN_FRAMES, out)
    return out


def columns_of_bins(bins: NDArray[np.float32], columns: int) -> NDArray[np.float32]:
    """(3, columns) at most: of consecutive bins the lowest, the highest and the mean square."""
    count = bins.shape[1]
    width = -(-count // max(1, min(columns, count)))
    edges = np.arange(0, count, width)
    sizes = np.diff(np.append(edges, count))
    return np.stack(
        [
            np.minimum.reduceat(bins[0], edges),
            np.maximum.reduceat(bins[1], edges),
            (np.add.reduceat(bins[2], edges) / sizes).astype(np.float32),
        ]
    )
