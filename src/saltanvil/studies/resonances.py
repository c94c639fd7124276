"""Resonances of a passage: where its spectrum sticks out of itself, whatever is played.

Notes stick out of a spectrum too. So a partial is compared with other partials and not with the gaps between them: of each
stretch only the peaks count, each against the peaks around it, and a place is a resonance if its peaks are higher than those
around on average over the passage. What remains is bells on a smooth line, taken off one after the other, the highest first
(matching pursuit: S. Mallat and Z. Zhang, "Matching Pursuits with Time-Frequency Dictionaries", IEEE Trans. Signal Processing
41(12), 1993, from memory). Below LOW_HZ, where each stretch has one peak at most, notes are compared with other notes.
"""

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import convolve1d, maximum_filter1d, uniform_filter1d

from saltanvil.dsp.bells import bell_db, q_to_width, width_to_q
from saltanvil.engine.audition import Scope
from saltanvil.engine.render import Cancelled
from saltanvil.measure.resonances import SURE, Resonance, verdict_text
from saltanvil.measure.spectrum import banded_db, powers
from saltanvil.studies.certainty import View, certainty, spectra
from saltanvil.studies.routing import source_name
from saltanvil.studies.scope.study import PassageRefused, Study, key_scope

Array = NDArray[np.float64]

BANDS_PER_OCTAVE = 24
LOWEST_HZ, HIGHEST_HZ = 30.0, 16000.0
HOP_S, MEAN_HOPS = 0.1, 4
#: Long windows for lows, in which partials lie close: (up to Hz, seconds).
WINDOWS = ((200.0, 0.68), (1200.0, 0.17), (np.inf, 0.085))
#: A peak is the highest within so many bands on each side.
NARROW, WIDE, WIDE_BELOW_HZ = 1, 2, 400.0
#: It counts if it is not so far below the highest within an octave, the stretch's and the passage's highest, in dB.
NEAR_DB, STRETCH_DB, PASSAGE_DB, QUIET_DB = 14.0, 60.0, 70.0, 45.0
#: Peaks are compared with those around them, by a bell curve of this spread less a hole, in octaves.
AROUND_OCT, HOLE_OCT = 0.7, 0.25
LINE_OCT = 0.8
MIN_SHARE, MIN_TIME = 0.05, 0.25
MIN_DB = 3.5
#: More than this is the sound itself: a drum's own tone.
BODY_DB = 18.0
MIN_Q, MAX_Q, MAX_FOUND = 1.2, 40.0, 10
QS = (1.4, 2.0, 2.8, 4.0, 5.6, 8.0, 11.0, 16.0, 22.0, 32.0)
LOW_HZ, LOW_TOP_HZ, LOW_TIME, LOW_Q, LOW_PERCENTILE = 90.0, 300.0, 0.1, 2.5, 80.0
#: Between two notes nothing is heard: what is found by notes may be as wide as from one to the next.
NOTE_OCT = 1.0 / 6.0
#: No longer passage is studied, so that memory stays bounded.
MAX_STUDY_S = 300.0
PASSES = 2


def grid_hz(rate: int) -> Array:
    """Middles of the bands."""
    top = min(HIGHEST_HZ, 0.42 * rate)
    count = int(np.log2(top / LOWEST_HZ) * BANDS_PER_OCTAVE) + 1
    return np.asarray(LOWEST_HZ * 2.0 ** (np.arange(count) / BANDS_PER_OCTAVE))


@dataclass(frozen=True)
class SpectralLine:
    """Something over the bands: level in dB, and the weight of each."""

    hz: Array
    level: Array
    weight: Array

    @property
    def octaves(self) -> Array:
        return np.log2(self.hz)

    def less(self, taken: Array) -> "SpectralLine":
        return SpectralLine(self.hz, self.level - taken, self.weight)


Bell = tuple[float, float, float]


def study(x: NDArray[np.float32], rate: int, progress: Callable[[float], None] = lambda share: None) -> list[Resonance]:
    """The resonances of x (channels, frames), the lowest first. A few seconds suffice, a whole chorus is better."""
    hz = grid_hz(rate)
    levels = stretches(x, rate, hz, lambda share: progress(0.7 * share))
    if len(levels) == 0:
        return []
    peaks = peaks_of(levels, hz)
    plain = line = compared(levels, peaks, hz, [])
    bells: list[Bell] = []
    for number in range(PASSES):
        if bells:
            line = compared(levels, peaks, hz, bells)
        bells = pursued(line)
        progress(0.7 + 0.1 * (number + 1))
    result = [finding(bell, line.weight, hz, MIN_TIME, MIN_Q) for bell in bells if bell[0] >= LOW_HZ]
    low = notes(levels, peaks, hz)
    views = views_of(levels, plain, low)
    result += [finding(bell, low.weight, hz, LOW_TIME, LOW_Q, NOTE_OCT) for bell in pursued(low) if bell[0] < LOW_HZ]
    progress(1.0)
    return sorted((judged(one, views) for one in result if one is not None), key=lambda one: one.frequency_hz)


def finding(bell: Bell, weight: Array, hz: Array, least_time: float, least_q: float, least_oct: float = 0.0) -> Resonance | None:
    """The bell as a finding; None if it is the sound itself, too seldom or too wide."""
    frequency, q, height = bell
    near = np.abs(np.log2(hz / frequency)) < max(0.25 / q, 1.0 / BANDS_PER_OCTAVE)
    time = min(1.0, float(weight[near].sum()))
    if time < least_time or q < least_q or not MIN_DB <= height <= BODY_DB:
        return None
    return Resonance(
        frequency_hz=round(frequency, 1),
        width_oct=round(max(q_to_width(q), least_oct), 3),
        height_db=round(height, 1),
        time_share=round(time, 2),
    )


@dataclass(frozen=True)
class Views:
    """The sound looked at in several ways: above LOW_HZ, and below."""

    usual: list[View]
    low: list[View]


def views_of(levels: Array, line: SpectralLine, low: SpectralLine) -> Views:
    both = spectra(levels, line.octaves)
    partials, loud = (View(line.octaves, one.level, one.weight, False) for one in (line, low))
    return Views([partials, *both], [loud, *both])


def judged(one: Resonance, views: Views) -> Resonance:
    """With how sure it is; what is not is off, for its user to try."""
    way = views.usual if one.frequency_hz >= LOW_HZ else views.low
    sure = certainty(way, one.frequency_hz, width_to_q(one.width_oct), one.height_db)
    return one.model_copy(update={"certainty": round(sure, 2), "on": sure >= SURE})


def stretches(x: NDArray[np.float32], rate: int, hz: Array, progress: Callable[[float], None]) -> Array:
    """(stretches, bands): level in dB of each HOP_S, averaged over MEAN_HOPS of them; without the silent ones."""
    hop = round(HOP_S * rate)
    starts = np.arange(0, max(x.shape[1] - hop, 1), hop)
    levels = np.empty((len(starts), len(hz)))
    low_hz = 0.0
    for number, (high_hz, window_s) in enumerate(WINDOWS):
        size = 1 << round(np.log2(window_s * rate))
        here = (hz >= low_hz) & (hz < high_hz)
        padded = np.pad(x, ((0, 0), (size // 2, size)))
        levels[:, here] = banded_db(powers(padded, size, starts), rate, BANDS_PER_OCTAVE, hz[here])
        low_hz = high_hz
        progress((number + 1) / len(WINDOWS))
    levels = 10.0 * np.log10(uniform_filter1d(10.0 ** (levels / 10.0), MEAN_HOPS, axis=0, mode="nearest") + 1e-14)
    top = levels.max(axis=1)
    return np.asarray(levels[(top > top.max() - QUIET_DB) & (top > -120.0)])


def peaks_of(levels: Array, hz: Array) -> NDArray[np.bool_]:
    """(stretches, bands): where a partial, or the top of a noise, stands."""
    narrow = maximum_filter1d(levels, 2 * NARROW + 1, axis=1)
    wide = maximum_filter1d(levels, 2 * WIDE + 1, axis=1)
    around = maximum_filter1d(levels, 2 * BANDS_PER_OCTAVE + 1, axis=1)
    return np.asarray(
        (levels >= np.where(hz < WIDE_BELOW_HZ, wide, narrow))
        & (levels > around - NEAR_DB)
        & (levels > levels.max() - PASSAGE_DB)
        & (levels > levels.max(axis=1, keepdims=True) - STRETCH_DB)
    )


def compared(levels: Array, peaks: NDArray[np.bool_], hz: Array, bells: list[Bell]) -> SpectralLine:
    """How far the peaks of each band stand over those around them, on average; bells: those known, that raise what is around."""
    weight = peaks.astype(np.float64)
    known = shape(hz, bells)
    spread = around_kernel()
    some = convolve1d(weight, spread, axis=1, mode="constant")
    around = convolve1d((levels - known) * weight, spread, axis=1, mode="constant") / np.maximum(some, 1e-9)
    counted = peaks & (some > 0.5)
    count = counted.sum(axis=0)
    mean = np.where(counted, levels - around, 0.0).sum(axis=0) / np.maximum(count, 1)
    share = count / len(levels)
    return SpectralLine(hz, mean, np.where(share >= MIN_SHARE, share, 0.0))


def notes(levels: Array, peaks: NDArray[np.bool_], hz: Array) -> SpectralLine:
    """How loud the loud peaks of each low band are."""
    share = peaks.sum(axis=0) / len(levels)
    weight = np.where((share >= MIN_SHARE) & (hz < LOW_TOP_HZ), share, 0.0)
    weighty = weight > 0.0
    level = np.zeros(len(hz))
    if weighty.any():
        level[weighty] = np.nanpercentile(np.where(peaks, levels, np.nan)[:, weighty], LOW_PERCENTILE, axis=0)
    return SpectralLine(hz, level, weight)


@cache
def around_kernel() -> Array:
    reach = int(3.0 * AROUND_OCT * BANDS_PER_OCTAVE)
    octaves = np.arange(-reach, reach + 1) / BANDS_PER_OCTAVE
    return np.asarray(np.where(np.abs(octaves) <= HOLE_OCT, 0.0, np.exp(-0.5 * (octaves / AROUND_OCT) ** 2)))


def shape(hz: Array, bells: list[Bell]) -> Array:
    """What narrower bells add to the spectrum; broad ones belong to what is around."""
    return np.asarray(sum((bell_db(hz, *bell) for bell in bells if bell[1] > 3.0), np.zeros(len(hz))))


# ---- a smooth line, and the bells on it ----------------------------------------------------------------------------------


def smoothed(line: SpectralLine, weight: Array) -> Array:
    """A straight line through the weighted surroundings of each band (local regression; W. Cleveland 1979, from memory)."""
    reach = int(3.0 * LINE_OCT * BANDS_PER_OCTAVE)
    octaves = np.arange(-reach, reach + 1) / BANDS_PER_OCTAVE
    spread = np.exp(-0.5 * (octaves / LINE_OCT) ** 2)

    def total(values: Array, kernel: Array) -> Array:
        return np.asarray(convolve1d(values, kernel[::-1], mode="constant"))

    some = np.maximum(total(weight, spread), 1e-9)
    middle = total(weight, spread * octaves) / some
    mean = total(weight * line.level, spread) / some
    across = total(weight, spread * octaves**2) / some - middle**2
    slope = (total(weight * line.level, spread * octaves) / some - middle * mean) / (across + 0.15)
    return np.asarray(mean - slope * middle)


def underneath(line: SpectralLine, hole: NDArray[np.bool_] | None = None) -> Array:
    """The line that resonances stand on: what sticks out of it counts less at each pass."""
    weight = line.weight if hole is None else np.where(hole, 0.0, line.weight)
    base = smoothed(line, weight)
    for _ in range(6):
        base = smoothed(line, weight / (1.0 + (np.maximum(line.level - base, 0.0) / 1.5) ** 2))
    return base


def pursued(line: SpectralLine) -> list[Bell]:
    """Bells (frequency, Q, height) taken off the line, the highest first."""
    bells: list[Bell] = []
    octaves, taken = line.octaves, np.zeros(len(line.hz), bool)
    if np.count_nonzero(line.weight) < 5:
        return bells
    weight = convolve1d(line.weight, [0.5, 1.0, 0.5], mode="constant")
    both = supported(line.weight)
    for _ in range(MAX_FOUND):
        over = line.level - underneath(line)
        height = convolve1d(over * line.weight, [0.5, 1.0, 0.5], mode="constant") / np.maximum(weight, 1e-9)
        possible = (weight > 0.1) & both & (line.hz > 40.0) & (line.hz < 12000.0) & ~taken
        at = int(np.argmax(np.where(possible, height, -np.inf)))
        if not possible.any() or height[at] < MIN_DB:
            break
        bell = fitted(line, over, at, *best(line, over, at, float(height[at])), 1.25 * float(height[at]))
        if bell[1] >= 2.5:  # the line once more, without what the bell covers
            hole = np.abs(octaves - np.log2(bell[0])) < 0.7 / bell[1] + 0.05
            over = line.level - underneath(line, hole)
            bell = fitted(line, over, at, bell[1], bell[2], 1.25 * max(float(height[at]), float(over[at]), 1.0))
        bells.append(bell)
        taken |= np.abs(octaves - np.log2(bell[0])) < max(1.0 / 12.0, min(1.0 / 6.0, 0.5 / bell[1]))
        line = line.less(bell_db(line.hz, *bell))
    return bells


def supported(weight: Array) -> NDArray[np.bool_]:
    """Where something sounds within an octave on both sides: at the edge of a sound nothing can stick out."""
    total = np.concatenate(([0.0], np.cumsum(weight)))
    at = np.arange(len(weight))
    below = total[np.maximum(at - 3, 0)] - total[np.maximum(at - BANDS_PER_OCTAVE, 0)]
    above = total[np.minimum(at + BANDS_PER_OCTAVE + 1, len(weight))] - total[np.minimum(at + 4, len(weight))]
    return np.asarray((below > 0.12) & (above > 0.12))


def near(line: SpectralLine, at: int, q: float) -> NDArray[np.bool_]:
    return np.asarray(np.abs(line.octaves - line.octaves[at]) < max(0.15, 0.8 / q))


def best(line: SpectralLine, over: Array, at: int, height: float) -> tuple[float, float]:
    """Q and height, of a few, that explain most."""
    explained: list[tuple[float, float, float]] = []
    for q in QS:
        here = near(line, at, q)
        for tall in (0.8 * height, height, 1.2 * height):
            rest = over[here] - bell_db(line.hz[here], line.hz[at], q, tall)
            explained.append((float(np.sum(line.weight[here] * (over[here] ** 2 - rest**2))), q, tall))
    return max(explained)[1:]


def fitted(line: SpectralLine, over: Array, at: int, q: float, height: float, most_db: float) -> Bell:
    """The bell that lies best on what is over the line, by least squares."""
    from scipy.optimize import least_squares  # late: half a second of a start

    here, middle = near(line, at, q), line.octaves[at]
    hz, weight, target = line.hz[here], np.sqrt(line.weight[here]), over[here]

    def rest(values: Array) -> Array:
        return np.asarray((target - bell_db(hz, 2.0 ** values[0], 2.0 ** values[1], values[2])) * weight)

    bounds = ([middle - 0.06, -0.5, 0.5], [middle + 0.06, np.log2(MAX_Q), most_db + 0.01])
    start = np.clip([middle, np.log2(q), height], np.array(bounds[0]) + 1e-6, np.array(bounds[1]) - 1e-6)
    values = least_squares(rest, start, bounds=bounds, max_nfev=30).x
    return float(2.0 ** values[0]), float(2.0 ** values[1]), float(values[2])


# ---- of a session ----------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class StepResonances:
    """resonances, studied: for the step's settings; verdict: the findings in a sentence or two."""

    resonances: list[Resonance]
    studied: str
    verdict: str


def step_resonances(
    passage: Study, step_id: str, name: str, progress: Callable[[float], None] = lambda share: None
) -> StepResonances:
    """What enters a tamer over a passage, or its outside key, studied. name: of the passage, for the document.

    Raises PassageRefused, NotFound, Cancelled.
    """
    if passage.stop - passage.start > MAX_STUDY_S * passage.rate:
        raise PassageRefused(f"a study takes {MAX_STUDY_S / 60:.0f} minutes at most; choose a shorter passage")
    place = passage.session.step(step_id)
    if place.step.kind != "tamer":
        raise PassageRefused(f"this step is a {place.step.kind}; ask about a resonance tamer")
    scope, entering = Scope(place.strip.id, place.step.id), True
    if (key := place.step.key) is not None:
        scope, entering = key_scope(passage.session, place.strip, key), key.at == "before"
    parts = []
    spans = passage.windows()
    for number, (start, stop) in enumerate(spans):
        result = passage.renderer(start, stop).compare(scope)
        parts.append(result.before if entering else result.after)
        progress(0.5 * (number + 1) / len(spans))

    def second_half(fraction: float) -> None:
        if passage.cancelled():
            raise Cancelled
        progress(0.5 + 0.5 * fraction)

    resonances = study(np.concatenate(parts, axis=1), passage.rate, second_half)
    start_s, end_s = passage.start / passage.rate, passage.stop / passage.rate
    where = f" of {source_name(passage.session, key)}" if key is not None else ""
    return StepResonances(resonances, f"{name}{where}, {start_s:.1f} to {end_s:.1f} s", verdict_text(resonances))
