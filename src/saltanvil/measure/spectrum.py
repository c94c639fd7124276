"""Level over frequency in fractions of an octave, on average or as it moves."""

import numpy as np
from numpy.typing import NDArray

LOW_HZ, HIGH_HZ = 20.0, 20000.0
POINTS = 180
AVERAGE_FRAMES = 16384
MOVING_FRAMES = 8192
MAX_MOVING = 240
FLOOR_DB = -140.0
#: Stretches transformed at a time.
ROWS = 8


def centres_hz(rate: int) -> NDArray[np.float64]:
    """The frequencies levels are given for, evenly spaced in octaves."""
    return np.geomspace(LOW_HZ, min(HIGH_HZ, 0.45 * rate), POINTS)


def powers(x: NDArray[np.float32], size: int, starts: NDArray[np.int64]) -> NDArray[np.float64]:
    """(starts, bins): power of the Hann-windowed stretches, mean of the channels; a full-scale sine has 1 in all."""
    from scipy.fft import rfft  # late: half a second of a start

    window = np.hanning(size + 1)[:-1]
    scale = 4.0 / (size * (window**2).sum())
    padded = np.pad(x, ((0, 0), (0, size)))
    result = np.empty((len(starts), size // 2 + 1))
    for at in range(0, len(starts), ROWS):
        rows = starts[at : at + ROWS, None] + np.arange(size)
        # SciPy's transform lets other threads run meanwhile: what sounds.
        transformed = rfft(padded[:, rows] * window, axis=-1, overwrite_x=True)
        result[at : at + ROWS] = (transformed.real**2 + transformed.imag**2).mean(axis=0) * scale
    return result


def banded_db(power: NDArray[np.float64], rate: int, fraction: int, centres: NDArray[np.float64]) -> NDArray[np.float64]:
    """Power summed over 1/fraction octave around each centre, in dB re a full-scale sine; bins are shared by parts.

    A band is at least one bin wide, so that the lowest ones are smoothed more than asked.
    """
    bins = power.shape[-1]
    width = rate / (2.0 * (bins - 1))
    reach = 2.0 ** (0.5 / fraction)
    low, high = centres / reach / width, centres * reach / width
    short = np.maximum(0.0, 1.0 - (high - low)) / 2.0
    edges = np.arange(bins + 1) - 0.5
    total = np.concatenate((np.zeros((*power.shape[:-1], 1)), np.cumsum(power, axis=-1)), axis=-1)

    def until(at: NDArray[np.float64]) -> NDArray[np.float64]:
        place = np.clip(at - edges[0], 0.0, bins - 1e-9)
        whole = place.astype(int)
        part = place - whole
        return np.asarray(total[..., whole] * (1.0 - part) + total[..., whole + 1] * part)

    summed = until(high + short) - until(low - short)
    return np.asarray(10.0 * np.log10(np.maximum(summed, 10.0 ** (FLOOR_DB / 10.0))))


def average_db(x: NDArray[np.float32], rate: int, fraction: int) -> NDArray[np.float64]:
    """Mean power over the whole of x (channels, frames), Welch's way: half-overlapping Hann windows."""
    size = min(AVERAGE_FRAMES, max(256, x.shape[1]))
    starts = np.arange(0, max(x.shape[1] - size, 0) + 1, size // 2)
    return banded_db(powers(x, size, starts).mean(axis=0), rate, fraction, centres_hz(rate))


def moving_hop(frames: int) -> int:
    """Frames between the pictures of a passage, so that there are at most MAX_MOVING."""
    return max(MOVING_FRAMES // 4, -(-frames // MAX_MOVING))


def moving_db(x: NDArray[np.float32], rate: int, fraction: int, hop: int) -> tuple[float, NDArray[np.float64]]:
    """Seconds between the pictures, and (pictures, POINTS)."""
    starts = np.arange(0, x.shape[1], hop) - MOVING_FRAMES // 2
    padded = np.pad(x, ((0, 0), (MOVING_FRAMES // 2, MOVING_FRAMES)))
    result = powers(padded, MOVING_FRAMES, starts + MOVING_FRAMES // 2)
    return hop / rate, banded_db(result, rate, fraction, centres_hz(rate))
