"""What the pictures are drawn from: envelopes and telemetry per column, level histogram, responses, spectra."""

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.envelope import extremes
from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.engine.scope import ScopeAudio
from saltanvil.measure.spectrum import average_db, centres_hz, moving_db
from saltanvil.processors import Settings, processor_named
from saltanvil.session.document.path import Step
from saltanvil.studies.scope.passage import BIN_FRAMES, MeasuredPassage, columns_of_bins

CURVE_LOW_DB = -90.0
HISTOGRAM_STEP_DB = 1.5
#: The envelopes' floor, in dBFS.
FLOOR_DB = -90.0


@dataclass(frozen=True)
class Bite:
    """One value a column: largest magnitude in dBFS before and after, RMS after, lowest and highest sample, reduction in dB.

    detector_db: loudest level at the step's detector, if it has one. touched: the largest difference, after less before, without
    the gain of untouched sound, linear. rows: what else the step tells, by name.
    """

    before_db: list[float]
    after_db: list[float]
    after_rms_db: list[float]
    before_low: list[float]
    before_high: list[float]
    after_low: list[float]
    after_high: list[float]
    reduction_db: list[float]
    detector_db: list[float]
    touched: list[float]
    rows: dict[str, list[float]]


@dataclass(frozen=True)
class Curve:
    """Output level for input levels, and the share of time the detector spends at each level."""

    input_db: list[float]
    output_db: list[float]
    histogram_db: list[float]
    histogram: list[float]


@dataclass(frozen=True)
class Response:
    """Gain over frequency; of a step whose gain moves, at the most it takes."""

    frequency_hz: list[float]
    gain_db: list[float]


def response_of(step: Step, settings: Settings, rate: int) -> Response | None:
    """The step's frequency response; None if it is no filter. settings: those it runs with."""
    frequencies = np.geomspace(20.0, min(20000.0, 0.49 * rate), 240)
    gain = processor_named(step.kind).response(settings, frequencies, rate)
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


def bite_of(whole: MeasuredPassage, columns: int, first: int = 0, last: int | None = None, linear_gain_db: float = 0.0) -> Bite:
    """The picture of dynamics of frames first..last of the passage, in at most `columns` columns.

    linear_gain_db: gain of what the scope leaves untouched.
    """
    last = whole.frames if last is None else last
    if whole.envelopes is None:
        result, through = whole.result, np.float32(10.0 ** (linear_gain_db / 20.0))
        sounds = result.before[:, first:last], result.after[:, first:last]
        before, after, moved = (columns_of(np.ascontiguousarray(x), columns) for x in (*sounds, sounds[1] / through - sounds[0]))
    else:
        cut = slice(first // BIN_FRAMES, max(-(-last // BIN_FRAMES), first // BIN_FRAMES + 1))
        kept = whole.envelopes
        before, after, moved = (columns_of_bins(x[:, cut], columns) for x in (kept.before, kept.after, kept.moved))
    count = before.shape[1]

    def per_column(values: NDArray[np.float32], highest: bool = False) -> NDArray[np.float32]:
        """Of the ticks under each column, the highest value, or that of largest magnitude."""
        ticks = values[first // TICK_FRAMES : max(-(-last // TICK_FRAMES), first // TICK_FRAMES + 1)]
        if not len(ticks):
            return ticks
        edges = (np.arange(count) * len(ticks)) // count
        high, low = np.maximum.reduceat(ticks, edges), np.minimum.reduceat(ticks, edges)
        return np.where(highest | (high >= -low), high, low)

    return Bite(
        rounded(magnitude_db(before)),
        rounded(magnitude_db(after)),
        rounded(10.0 * np.log10(np.maximum(after[2], 10.0 ** (FLOOR_DB / 10.0)))),
        rounded(before[0], 4),
        rounded(before[1], 4),
        rounded(after[0], 4),
        rounded(after[1], 4),
        rounded(per_column(whole.reduction_db)),
        rounded(per_column(whole.detector_db, highest=True)),
        rounded(np.maximum(-moved[0], moved[1]), 5),
        {name: rounded(per_column(values)) for name, values in whole.rows.items()},
    )


def curve_of(step: Step, settings: Settings, detector_db: NDArray[np.float32]) -> Curve | None:
    """The step's static curve with the histogram of its detector; None if it has no curve. settings: those it runs with."""
    levels = np.arange(CURVE_LOW_DB, 0.01, 0.5)
    output = processor_named(step.kind).curve(settings, levels)
    if output is None:
        return None
    edges = np.arange(CURVE_LOW_DB, 0.01, HISTOGRAM_STEP_DB)
    audible = detector_db[detector_db >= CURVE_LOW_DB]
    counts, _ = np.histogram(np.minimum(audible, -0.001), edges)
    return Curve(rounded(levels), rounded(output), rounded(edges[:-1]), rounded(counts / max(len(detector_db), 1), 4))


@dataclass(frozen=True)
class Spectrum:
    """Levels in dB re a full-scale sine, in 1/fraction octave bands around the frequencies.

    key_db: gain of the filter the detector listens through; cut_db: gain of the step as a filter, at the most it
    takes. moving_before_db, moving_after_db: one picture every hop_s from start_s on, in whole decibels; empty unless
    asked for.
    """

    fraction: int
    frequency_hz: list[float]
    before_db: list[float]
    after_db: list[float]
    taken_db: list[float]
    key_db: list[float] | None
    cut_db: list[float] | None
    hop_s: float
    moving_before_db: list[list[int]]
    moving_after_db: list[list[int]]


def spectrum_of(
    parts: Iterable[ScopeAudio], rate: int, step: Step | None, settings: Settings | None, fraction: int, hop: int | None,
    linear_gain_db: float = 0.0,
) -> Spectrum:  # fmt: skip
    """Before, after and difference over the passage, whose windows come one after the other. hop: frames from one moving picture
    to the next, if there are to be any; linear_gain_db: of what the scope leaves untouched, which the difference does without."""
    frequencies = centres_hz(rate)
    key = cut = None
    if step is not None and settings is not None:
        processor = processor_named(step.kind)
        key = processor.key_response(settings, frequencies, rate)
        cut = processor.response(settings, frequencies, rate)
    hop_s, moving = 0.0, [[np.zeros((0, len(frequencies)))] for _ in range(2)]
    through = np.float32(10.0 ** (linear_gain_db / 20.0))
    power, frames = np.zeros((3, len(frequencies))), 0
    for result in parts:
        for row, x in enumerate((result.before, result.after, result.before - result.after / through)):
            power[row] += 10.0 ** (average_db(x, rate, fraction) / 10.0) * x.shape[1]
            if hop is not None and row < 2:
                hop_s, pictures = moving_db(x, rate, fraction, hop)
                moving[row].append(pictures)
        frames += result.before.shape[1]
    before, after, taken = 10.0 * np.log10(power / max(frames, 1))
    return Spectrum(
        fraction,
        rounded(frequencies),
        rounded(before, 1),
        rounded(after, 1),
        rounded(taken, 1),
        None if key is None else rounded(key, 1),
        None if cut is None else rounded(cut, 2),
        hop_s,
        *(np.rint(np.concatenate(pictures)).astype(int).tolist() for pictures in moving),
    )
