"""The figures of one piece of sound, under the names the project uses everywhere."""

import math
from dataclasses import asdict, dataclass

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.mix import peak
from saltanvil.dsp.units import SILENCE_DB, gain_to_db, power_to_db
from saltanvil.measure import loudness

FLOOR_WINDOW_S = 0.05


@dataclass(frozen=True)
class Figures:
    """Loudness is None where the sound is too short for it or lies below the gate."""

    integrated_lufs: float | None
    max_momentary_lufs: float | None
    max_short_term_lufs: float | None
    loudness_range_lu: float
    true_peak_dbtp: float
    sample_peak_dbfs: float
    rms_dbfs: float
    crest_db: float
    floor_dbfs: float

    def as_dict(self) -> dict[str, float | None]:
        return asdict(self)


def finite(value: float) -> float | None:
    return value if math.isfinite(value) else None


def largest_lufs(blocks: NDArray[np.float64]) -> float | None:
    return finite(loudness.energy_to_lufs(float(blocks.max()))) if len(blocks) else None


def figures_of(x: NDArray[np.float32], rate: int) -> Figures:
    """Measure x, (channels, frames), C-contiguous.

    crest_db is sample peak over RMS of all channels; floor_dbfs the 10th percentile of the RMS of 50 ms windows.
    """
    energies = loudness.hop_energies(x, rate)
    sample_peak = gain_to_db(float(peak(x)))
    mean_square = float(np.einsum("cf,cf->", x, x, dtype=np.float64)) / max(x.size, 1)
    rms = power_to_db(mean_square)
    return Figures(
        integrated_lufs=finite(loudness.integrated_lufs(energies)),
        max_momentary_lufs=largest_lufs(loudness.windowed(energies, loudness.MOMENTARY_HOPS)),
        max_short_term_lufs=largest_lufs(loudness.windowed(energies, loudness.SHORT_TERM_HOPS)),
        loudness_range_lu=loudness.loudness_range_lu(energies),
        true_peak_dbtp=loudness.true_peak_dbtp(x),
        sample_peak_dbfs=sample_peak,
        rms_dbfs=rms,
        crest_db=sample_peak - rms if rms > SILENCE_DB else 0.0,
        floor_dbfs=floor_dbfs(x, rate),
    )


def floor_dbfs(x: NDArray[np.float32], rate: int) -> float:
    """The level below which a tenth of the 50 ms windows lie."""
    window = round(FLOOR_WINDOW_S * rate)
    count = x.shape[1] // window
    if not count:
        return SILENCE_DB
    cut = x[:, : count * window].reshape(x.shape[0], count, window)
    power = np.einsum("cbw,cbw->b", cut, cut) / (window * x.shape[0])
    return power_to_db(float(np.percentile(power, 10)))


def match_db(before: NDArray[np.float32], after: NDArray[np.float32], rate: int) -> float:
    """Loudness of `after` less that of `before`, in dB; 0 where either cannot be measured.

    Integrated loudness (BS.1770-5); stretches under 400 ms, or below its gate, by their ungated weighted energy.
    """
    found = []
    for x in (before, after):
        energies = loudness.hop_energies(x, rate)
        value = loudness.integrated_lufs(energies)
        if not math.isfinite(value) and len(energies):
            value = loudness.energy_to_lufs(float(energies.mean()))
        found.append(value)
    difference = found[1] - found[0]
    return difference if math.isfinite(difference) else 0.0
