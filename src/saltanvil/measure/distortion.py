"""Harmonics, THD, intermodulation and what is neither, from tones that fit a whole number of times into the stretch.

A tone of an odd number of periods in 2^n frames puts every harmonic, every fold of one and every intermodulation product
exactly on a bin: no window is needed, and what is not a harmonic can be told from what is.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Samples = NDArray[np.float32] | NDArray[np.float64]
#: Harmonics with a figure of their own, from the second.
MAX_HARMONIC = 12
#: THD+N is taken up to here (AES17's measuring bandwidth, from memory).
BAND_LOW_HZ, BAND_HIGH_HZ = 20.0, 20000.0
FLOOR_DB = -200.0
#: The intermodulation tones: SMPTE 60 Hz and 7 kHz at 4:1; difference frequency 19 and 20 kHz (IEC 60268-3, from memory).
SMPTE_HZ, SMPTE_RATIO = (60.0, 7000.0), 4.0
DIFFERENCE_HZ = (19000.0, 20000.0)


@dataclass(frozen=True)
class Harmonics:
    """harmonics_db: H2 to H12 re the fundamental, those up to half the rate. thd_db: all harmonics of the band re the
    fundamental (IEC 60268-3); thdn_db: all but the fundamental, 20 Hz to 20 kHz, re everything (AES17). even_share: the even
    harmonics' part of all harmonics' power. strongest_db, strongest_hz: the strongest line that is no harmonic."""

    frequency_hz: float
    fundamental_dbfs: float
    harmonics_db: list[float]
    thd_db: float
    thdn_db: float
    even_share: float
    strongest_db: float
    strongest_hz: float


def fitting_hz(frequency_hz: float, frames: int, rate: float) -> float:
    """The nearest frequency with an odd number of periods in the frames, a power of two."""
    periods = frequency_hz * frames / rate
    odd = 2 * round((periods - 1) / 2) + 1
    return max(odd, 1) * rate / frames


def lines(x: Samples) -> NDArray[np.float64]:
    """Power of each bin re a full-scale sine. x: (frames,), a power of two of them."""
    result = np.abs(np.fft.rfft(np.asarray(x, dtype=np.float64))) ** 2 * (2.0 / len(x)) ** 2
    result[0] /= 4.0
    result[-1] /= 4.0
    return np.asarray(result)


def db_of(power: float, than: float = 1.0) -> float:
    if power <= 0.0 or than <= 0.0:
        return FLOOR_DB
    return max(10.0 * math.log10(power / than), FLOOR_DB)


def harmonics_of(x: Samples, rate: float, frequency_hz: float) -> Harmonics:
    """Of a settled tone that fits the stretch (see `fitting_hz`). x: (frames,). Raises ValueError if it does not fit."""
    frames = len(x)
    periods = round(frequency_hz * frames / rate)
    if abs(periods - frequency_hz * frames / rate) > 1e-6 or periods < 1:
        raise ValueError("the tone does not fit into the stretch a whole number of times; use fitting_hz")
    power = lines(x)
    bins = np.arange(len(power))
    hz = bins * rate / frames
    band = (hz >= BAND_LOW_HZ) & (hz <= min(BAND_HIGH_HZ, rate / 2))
    fundamental = float(power[periods])
    orders = np.arange(2, (len(power) - 1) // periods + 1)
    harmonic = power[orders * periods] if len(orders) else np.zeros(0)
    inside = harmonic * (orders * periods * rate / frames <= BAND_HIGH_HZ)
    rest = power.copy()
    rest[0] = 0.0
    rest[::periods] = 0.0
    strongest = int(rest.argmax())
    in_band = float(power[band].sum())
    even = float(inside[0::2].sum())
    return Harmonics(
        frequency_hz,
        db_of(fundamental),
        [db_of(float(level), fundamental) for level in harmonic[: MAX_HARMONIC - 1]],
        db_of(float(inside.sum()), fundamental),
        db_of(in_band - float(power[periods] * band[periods]), in_band),
        even / float(inside.sum()) if inside.sum() > 0.0 else 0.0,
        db_of(float(rest[strongest]), fundamental),
        strongest * rate / frames,
    )


@dataclass(frozen=True)
class Intermodulation:
    """products: (Hz, dB) of each product; total_db: as the method sums them, re what it refers to."""

    method: str
    products_hz: list[float]
    products_db: list[float]
    total_db: float


def smpte_of(x: Samples, rate: float, low_hz: float, high_hz: float) -> Intermodulation:
    """Sidebands of the high tone at once and twice the low one; the sums of pairs, root-sum-squared, re the high tone.

    SMPTE RP 120 as IEC 60268-3 words it (from memory).
    """
    power, at = lines(x), bin_of(len(x), rate)
    carrier = float(power[at(high_hz)])
    result = [(high_hz + n * low_hz, float(power[at(high_hz + n * low_hz)])) for n in (-2, -1, 1, 2)]
    pairs = [math.sqrt(result[1][1]) + math.sqrt(result[2][1]), math.sqrt(result[0][1]) + math.sqrt(result[3][1])]
    total = sum(pair * pair for pair in pairs)
    return Intermodulation(
        "SMPTE", [hz for hz, _ in result], [db_of(level, carrier) for _, level in result], db_of(total, carrier)
    )


def difference_of(x: Samples, rate: float, low_hz: float, high_hz: float) -> Intermodulation:
    """The difference tone and those a difference beside the pair, added up, re the sum of the pair (IEC 60268-3, from memory)."""
    power, at = lines(x), bin_of(len(x), rate)
    apart = high_hz - low_hz
    pair = math.sqrt(float(power[at(low_hz)])) + math.sqrt(float(power[at(high_hz)]))
    result = [(hz, float(power[at(hz)])) for hz in (apart, low_hz - apart, high_hz + apart)]
    second, third = math.sqrt(result[0][1]), math.sqrt(result[1][1]) + math.sqrt(result[2][1])
    return Intermodulation(
        "difference",
        [hz for hz, _ in result],
        [db_of(level, pair * pair) for _, level in result],
        db_of(second * second + third * third, pair * pair),
    )


def bin_of(frames: int, rate: float):  # type: ignore[no-untyped-def]
    return lambda hz: min(round(hz * frames / rate), frames // 2)


#: A colour further below its sound is not worth its name.
UNHEARD_DB = -60.0


def coloured_db(before: NDArray[np.float32], after: NDArray[np.float32]) -> float:
    """What is new in `after`, in dB re all of it: what is left of it after the best copy of `before` is taken away.

    before, after: (channels, frames), aligned. A gain is nothing new. -160 for silence.
    """
    x, y = before.astype(np.float64).ravel(), after.astype(np.float64).ravel()
    own, common, power = float(x @ x), float(x @ y), float(y @ y)
    if power <= 0.0:
        return -160.0
    left = power - common**2 / own if own > 0.0 else power
    return 10.0 * math.log10(max(left / power, 1e-16))
