"""What the bite and the curve are drawn from: envelopes per column, reduction per column, level histogram."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.envelope import extremes
from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.engine.scope import Compared
from saltanvil.processors import processor_named
from saltanvil.session.document import Step

CURVE_LOW_DB = -60.0
HISTOGRAM_STEP_DB = 1.5
#: The envelopes' floor, in dBFS.
FLOOR_DB = -90.0


@dataclass(frozen=True)
class Bite:
    """One value a column: largest magnitude in dBFS before and after, lowest and highest sample, reduction in dB."""

    before_db: list[float]
    after_db: list[float]
    before_low: list[float]
    before_high: list[float]
    after_low: list[float]
    after_high: list[float]
    reduction_db: list[float]


@dataclass(frozen=True)
class Curve:
    """Output level for input levels, and the share of time the detector spends at each level."""

    input_db: list[float]
    output_db: list[float]
    histogram_db: list[float]
    histogram: list[float]


@dataclass(frozen=True)
class Response:
    """Gain over frequency."""

    frequency_hz: list[float]
    gain_db: list[float]


def response_of(step: Step, rate: int) -> Response | None:
    """The step's frequency response; None if it is no filter."""
    frequencies = np.geomspace(20.0, min(20000.0, 0.49 * rate), 240)
    gain = processor_named(step.kind).response(step.settings, frequencies, rate)
    return None if gain is None else Response(rounded(frequencies), rounded(gain, 3))


def rounded(values: NDArray[np.floating], digits: int = 2) -> list[float]:
    return [round(float(value), digits) for value in values]


def columns_of(x: NDArray[np.float32], columns: int) -> NDArray[np.float32]:
    """(3, columns): lowest, highest, mean square in equal stretches of x (the last may be shorter)."""
    columns = max(1, min(columns, x.shape[1]))
    width = -(-x.shape[1] // columns)
    out = np.zeros((3, -(-x.shape[1] // width)), np.float32)
    extremes(x, width, out)
    return out


def magnitude_db(columns: NDArray[np.float32]) -> NDArray[np.floating]:
    return np.asarray(20.0 * np.log10(np.maximum(np.maximum(-columns[0], columns[1]), 10.0 ** (FLOOR_DB / 20.0))))


def bite_of(found: Compared, columns: int, first: int = 0, last: int | None = None) -> Bite:
    """The picture of dynamics of frames first..last of the passage, in at most `columns` columns."""
    last = found.before.shape[1] if last is None else last
    before = columns_of(np.ascontiguousarray(found.before[:, first:last]), columns)
    after = columns_of(np.ascontiguousarray(found.after[:, first:last]), columns)
    count = before.shape[1]
    ticks = found.reduction_db[first // TICK_FRAMES : max(-(-last // TICK_FRAMES), first // TICK_FRAMES + 1)]
    if len(ticks):
        edges = (np.arange(count) * len(ticks)) // count
        reduction = np.maximum.reduceat(ticks, edges)
    else:
        reduction = np.empty(0, np.float32)
    return Bite(
        rounded(magnitude_db(before)),
        rounded(magnitude_db(after)),
        rounded(before[0], 4),
        rounded(before[1], 4),
        rounded(after[0], 4),
        rounded(after[1], 4),
        rounded(reduction),
    )


def curve_of(step: Step, detector_db: NDArray[np.float32]) -> Curve | None:
    """The step's static curve with the histogram of its detector; None if it has no curve."""
    levels = np.arange(CURVE_LOW_DB, 0.01, 0.5)
    output = processor_named(step.kind).curve(step.settings, levels)
    if output is None:
        return None
    edges = np.arange(CURVE_LOW_DB, 0.01, HISTOGRAM_STEP_DB)
    heard = detector_db[detector_db >= CURVE_LOW_DB]
    counts, _ = np.histogram(np.minimum(heard, -0.001), edges)
    return Curve(rounded(levels), rounded(output), rounded(edges[:-1]), rounded(counts / max(len(detector_db), 1), 4))
