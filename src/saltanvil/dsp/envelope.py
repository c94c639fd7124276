"""Extremes and mean squares over equal bins: what waveforms are drawn from."""

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.kernel import kernel


@kernel("void(float32[:,::1],int64,float32[:,::1])")
def extremes(x, bin_frames, out):  # type: ignore[no-untyped-def]
    """out: (3, bins): lowest and highest sample of any channel and mean square, per bin of `bin_frames` frames."""
    channels, frames = x.shape
    for b in range(out.shape[1]):
        start = b * bin_frames
        stop = min(start + bin_frames, frames)
        low = np.float32(0.0)
        high = np.float32(0.0)
        total = 0.0
        for c in range(channels):
            for i in range(start, stop):
                v = x[c, i]
                low = min(low, v)
                high = max(high, v)
                total += np.float64(v) * v
        out[0, b] = low
        out[1, b] = high
        out[2, b] = np.float32(total / max((stop - start) * channels, 1))


@kernel("boolean(float32[:,::1])")
def all_finite(x):  # type: ignore[no-untyped-def]
    """Whether no sample is infinite or not a number."""
    for c in range(x.shape[0]):
        for i in range(x.shape[1]):
            if not np.isfinite(x[c, i]):
                return False
    return True


#: +80 dBFS: nothing a mixing engineer does is louder, and detectors stay within what float32 squares.
LOUDEST = 1e4
_LOUDEST_BITS = np.array(LOUDEST, np.float32).view(np.int32).item()


@kernel("boolean(float32[:,::1])")
def needs_cleaning(x):  # type: ignore[no-untyped-def]
    """Whether a sample is not a number or beyond LOUDEST."""
    # Infinities and what is no number have larger bits than any number: an integer maximum finds them all.
    most = np.int32(0)
    for c in range(x.shape[0]):
        row = x[c].view(np.int32)
        for i in range(row.shape[0]):
            most = max(most, row[i] & np.int32(0x7FFFFFFF))
    return most > np.int32(_LOUDEST_BITS)


def clean(x: NDArray[np.float32]) -> NDArray[np.float32]:
    """A copy without what is not a number, held to LOUDEST."""
    return np.ascontiguousarray(np.clip(np.nan_to_num(x, nan=0.0, posinf=LOUDEST, neginf=-LOUDEST), -LOUDEST, LOUDEST))
