"""Extremes and mean squares over equal bins: what waveforms are drawn from."""

import numpy as np

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
