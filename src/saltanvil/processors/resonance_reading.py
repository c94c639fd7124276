"""How high a resonance stands above its surroundings, read from bands of hearing."""

import math
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import resonance as dsp
from saltanvil.dsp.bells import bell_db, q_to_width, width_to_q
from saltanvil.measure.resonances import Resonance

#: The bells of the free mode: six an octave.
FREE_LOW_HZ, FREE_PER_OCTAVE = 40.0, 6
#: Surroundings begin so far from a resonance, in its widths, and no nearer than this in octaves.
HOLE_WIDTHS, HOLE_OCT = 0.75, 0.125
#: Height of the resonance by which readings are made heights.
PROBE_DB = 10.0


@lru_cache(64)
def free_resonances(sharpness: float) -> tuple[Resonance, ...]:
    """One for each bell of the free mode."""
    width = q_to_width(sharpness)
    return tuple(
        Resonance(frequency_hz=FREE_LOW_HZ * 2.0 ** (n / FREE_PER_OCTAVE), width_oct=width, height_db=Resonance.HIGHEST_DB)
        for n in range(int(math.log2(16000.0 / FREE_LOW_HZ) * FREE_PER_OCTAVE) + 1)
    )


@lru_cache(1024)
def weights(
    frequency_hz: float, width_oct: float, smoothing_oct: float, rate: int
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """(bands,) and (2, bands): what is read of a resonance, and of its surroundings below and above; each adds to 1 or to 0."""
    return weights_at(np.log2(dsp.bands_hz(rate) / frequency_hz), width_oct, smoothing_oct)


def weights_at(
    octaves: NDArray[np.float64], width_oct: float, smoothing_oct: float
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """`weights` for bands so many octaves above the resonance."""
    reach = max(width_oct / 2.0, 0.6 / dsp.BANDS_PER_OCTAVE)
    own = np.clip(1.5 - np.abs(octaves) / reach, 0.0, 1.0)
    hole = max(HOLE_WIDTHS * width_oct, HOLE_OCT)
    sides = np.array([(octaves < -hole) & (octaves > -hole - smoothing_oct), (octaves > hole) & (octaves < hole + smoothing_oct)])
    return own / max(own.sum(), 1e-12), sides / np.maximum(sides.sum(axis=1, keepdims=True), 1)


#: Bands around a resonance and the frequencies they hear, both in octaves above it; power that each hears of each.
AROUND_OCT = np.arange(-60, 61) / dsp.BANDS_PER_OCTAVE
FINE_OCT = np.linspace(-5.0, 5.0, 1201)


@lru_cache(1)
def heard_around() -> NDArray[np.float64]:
    power = dsp.heard_power(2.0**FINE_OCT, 2.0**AROUND_OCT)
    return np.asarray(power / power.sum(axis=1, keepdims=True))


def reading_ratio(width_oct: float, smoothing_oct: float) -> float:
    """Height of a resonance for a dB of reading."""
    return exact_ratio(round(math.log2(width_oct) * 20) / 20, round(smoothing_oct, 1))


@lru_cache(1024)
def exact_ratio(width_log2: float, smoothing_oct: float) -> float:
    """`reading_ratio`, found by a resonance of PROBE_DB in pink noise."""
    raised = 10.0 ** (bell_db(2.0**FINE_OCT, 1.0, width_to_q(2.0**width_log2), PROBE_DB) / 10.0)
    power = heard_around() @ raised
    own, sides = weights_at(AROUND_OCT, 2.0**width_log2, smoothing_oct)
    reading = 10.0 * math.log10(float(own @ power)) - float(np.mean(sides @ (10.0 * np.log10(power))))
    return min(max(PROBE_DB / max(reading, 1e-3), 0.5), 2.0)


@lru_cache(64)
def part_of(sharpness: float) -> float:
    """Share of the whole cut that each bell of the free mode takes, so that equally deep neighbours add up to it."""
    away = np.arange(-24, 25) / FREE_PER_OCTAVE
    return 1.0 / float(bell_db(2.0**away, 1.0, sharpness, 1.0).sum())
