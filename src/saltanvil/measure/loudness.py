"""Programme loudness, loudness range and true peak: ITU-R BS.1770-5, EBU Tech 3341 and 3342."""

import math

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import loudness as kernels
from saltanvil.dsp.state import Stateful
from saltanvil.dsp.true_peak import TRUE_PEAK_HISTORY, true_peak, true_peak_filters
from saltanvil.dsp.units import gain_to_db

OFFSET_LUFS = -0.691  # BS.1770-5 Annex 1, eq. 2
ABSOLUTE_GATE_LUFS = -70.0
#: 10 ms: a tone of 400 ms is found at its full level wherever it starts (EBU Tech 3341, case 13).
HOPS_A_SECOND = 100
MOMENTARY_HOPS = 40
SHORT_TERM_HOPS = 300
#: Gated measures take a block every 100 ms: 400 ms blocks overlap by 75 %.
BLOCK_STRIDE = 10
#: BS.1770-5 Annex 1, table 3, for mono, stereo, L R C, quad, 5.0 and 5.1 (the fourth of six is the LFE, which counts nothing).
WEIGHTS = {
    1: (1.0,),
    2: (1.0, 1.0),
    3: (1.0, 1.0, 1.0),
    4: (1.0, 1.0, 1.41, 1.41),
    5: (1.0, 1.0, 1.0, 1.41, 1.41),
    6: (1.0, 1.0, 1.0, 0.0, 1.41, 1.41),
}

Audio = NDArray[np.float32]
Values = NDArray[np.float64]


def energy_to_lufs(energy: float) -> float:
    """Weighted mean square to LUFS (eq. 2); no energy reads -inf."""
    return OFFSET_LUFS + 10.0 * math.log10(energy) if energy > 0.0 else -math.inf


def lufs_to_energy(lufs: float) -> float:
    """The inverse of `energy_to_lufs`."""
    return float(10.0 ** ((lufs - OFFSET_LUFS) / 10.0))


class LoudnessMeter(Stateful):
    """Takes blocks of any length and keeps the K-weighted energy of each 10 ms; mono or stereo. keep: only the last so many."""

    state = ("energies", "_memory", "_progress")

    def __init__(self, rate: int, channels: int, keep: int | None = None) -> None:
        self.keep = keep
        self.hop = rate // HOPS_A_SECOND
        self.energies: list[float] = []
        self._sections = kernels.k_weighting(rate)
        self._memory = np.zeros((channels, 4))
        self._progress = np.zeros(2)

    def add(self, x: Audio) -> None:
        """Measure one more block, (channels, frames)."""
        done = int(self._progress[0] + x.shape[1]) // self.hop
        energies = np.empty(max(done, 1))
        kernels.weighted_energy(x, self._sections, self._memory, self._progress, self.hop, energies)
        self.energies.extend((energies[:done] / self.hop).tolist())
        if self.keep is not None:
            del self.energies[: -self.keep]

    def latest_lufs(self, hops: int) -> float:
        """Loudness of the last `hops` x 10 ms, -inf for silence or before anything was heard."""
        last = self.energies[-hops:]
        return energy_to_lufs(sum(last) / hops) if last else -math.inf


def hop_energies(x: Audio, rate: int) -> Values:
    """Weighted mean square of the K-weighted channels for every whole 10 ms of x, (1 to 6 channels, frames)."""
    if x.shape[0] > 2:
        weights = WEIGHTS[x.shape[0]]
        return np.asarray(
            sum(weight * hop_energies(np.ascontiguousarray(x[i : i + 1]), rate) for i, weight in enumerate(weights))
        )
    meter = LoudnessMeter(rate, x.shape[0])
    meter.add(x)
    return np.array(meter.energies)


def windowed(energies: Values, hops: int) -> Values:
    """Mean energy of each window of `hops` x 10 ms, one window every 10 ms; empty if x is shorter than a window."""
    if len(energies) < hops:
        return np.empty(0)
    total = np.concatenate([[0.0], np.cumsum(energies)])
    return np.asarray(np.maximum(total[hops:] - total[:-hops], 0.0) / hops)


def gated_mean(blocks: Values, relative_lu: float) -> float:
    """Mean energy of the blocks above both gates (Annex 1, eqs. 3 to 7); 0 if none is."""
    loud = blocks[blocks > lufs_to_energy(ABSOLUTE_GATE_LUFS)]
    if not len(loud):
        return 0.0
    gate = loud.mean() * 10.0 ** (relative_lu / 10.0)
    return float(loud[loud > gate].mean())


def integrated_lufs(energies: Values) -> float:
    """Integrated loudness of the hops' energies: absolute gate -70 LUFS, relative gate -10 LU; -inf if all is gated."""
    return energy_to_lufs(gated_mean(windowed(energies, MOMENTARY_HOPS)[::BLOCK_STRIDE], -10.0))


def loudness_range_lu(energies: Values) -> float:
    """Spread of the short-term loudness between its 10th and 95th percentile (EBU Tech 3342), gate -20 LU."""
    blocks = windowed(energies, SHORT_TERM_HOPS)[::BLOCK_STRIDE]
    loud = blocks[blocks > lufs_to_energy(ABSOLUTE_GATE_LUFS)]
    if not len(loud):
        return 0.0
    loud = loud[loud > loud.mean() * 10.0**-2.0]
    low, high = np.percentile(10.0 * np.log10(loud), [10.0, 95.0])
    return float(high - low)


def true_peak_dbtp(x: Audio) -> float:
    """Largest magnitude between the samples of any channel (BS.1770-5 Annex 2), with silence around, in dBTP."""
    meter = TruePeakMeter(len(x))
    meter.add(x)
    return meter.read_dbtp()


class PeakMeter(Stateful):
    """True peak of a stream, block by block, for two channels; each block is seen with the end of the one before."""

    def __init__(self) -> None:
        self._filters = true_peak_filters()
        self._tail = np.zeros((2, TRUE_PEAK_HISTORY), np.float32)

    def read_dbtp(self, x: Audio) -> list[float]:
        """Per channel, the largest magnitude since the last block, half a filter late."""
        seen = np.concatenate([self._tail, x], axis=1)
        self._tail = seen[:, -TRUE_PEAK_HISTORY:].copy()
        return [gain_to_db(float(true_peak(channel, self._filters))) for channel in seen]


class TruePeakMeter:
    """The largest magnitude between the samples of any channel (BS.1770-5 Annex 2) of a sound that comes in blocks, with
    silence before and after it."""

    def __init__(self, channels: int) -> None:
        self._filters = true_peak_filters()
        self._tail = np.zeros((channels, TRUE_PEAK_HISTORY), np.float32)
        self._largest = 0.0

    def add(self, x: Audio) -> None:
        """(channels, frames)."""
        seen = np.concatenate([self._tail, x], axis=1)
        self._tail = seen[:, -TRUE_PEAK_HISTORY:].copy()
        self._largest = max(self._largest, *(float(true_peak(channel, self._filters)) for channel in seen))

    def read_dbtp(self) -> float:
        """Of all that was added."""
        ended = np.concatenate([self._tail, np.zeros_like(self._tail)], axis=1)
        return gain_to_db(max(self._largest, *(float(true_peak(channel, self._filters)) for channel in ended)))
