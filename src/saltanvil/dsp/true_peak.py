"""The peak between the samples: interpolation by a polyphase filter (ITU-R BS.1770-5, Annex 2)."""

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.kernel import kernel
from saltanvil.dsp.oversample import filtered

TRUE_PEAK_TAPS = 32  # a phase; 12 let 0.5 dB of an inter-sample peak through, 24 or more do not


def true_peak_phases(oversampling: int = 4) -> NDArray[np.float32]:
    """Polyphase interpolator, (oversampling, taps), Kaiser-windowed sinc; phase 0 is the sample itself.

    ITU-R BS.1770-5, Annex 2 asks for at least 4x; its own 12-tap filter is allowed to under-read more than ours.
    """
    taps = TRUE_PEAK_TAPS
    n = np.arange(taps)[None, :] - (taps // 2 - 1)
    offset = np.arange(oversampling)[:, None] / oversampling
    position = offset - n
    window = np.i0(9.0 * np.sqrt(np.maximum(1.0 - (position / (taps / 2)) ** 2, 0.0))) / np.i0(9.0)
    phases = np.sinc(position) * window
    phases /= phases.sum(axis=1, keepdims=True)
    return phases.astype(np.float32)


@kernel("float32(float32[::1],float32[:,::1],boolean)", allocates=True)
def true_peak(x, phases, inside):  # type: ignore[no-untyped-def]
    """Largest interpolated magnitude of one channel, with silence before and after it.

    inside: only between samples that have `taps` neighbours, for a stretch cut out of something longer.

    A stretch whose samples cannot reach the peak found so far, whatever the filter makes of them, is not filtered.
    """
    oversampling, taps = phases.shape
    frames = x.shape[0]
    reach = np.float32(0.0)
    for p in range(oversampling):
        total = np.float32(0.0)
        for t in range(taps):
            total += abs(phases[p, t])
        reach = max(reach, total)
    chunk = 128
    padded = np.zeros(chunk + taps, np.float32)
    padded_bits = padded.view(np.int32)
    row = np.empty(chunk, np.float32)
    row_bits = row.view(np.int32)
    sign = np.int32(0x7FFFFFFF)
    found = np.empty(1, np.float32)
    found_bits = found.view(np.int32)
    # Magnitudes sort like their bits: integer maxima vectorise, floating ones do not.
    most = np.int32(0)
    first = 0 if inside else -taps
    end = frames - taps if inside else frames
    while first < end:
        wanted = min(chunk, end - first)
        for i in range(chunk + taps):
            padded[i] = np.float32(0.0)
        low = max(first, 0)
        high = min(first + chunk + taps, frames)
        padded[low - first : high - first] = x[low:high]
        loudest = np.int32(0)
        for i in range(chunk + taps):
            loudest = max(loudest, padded_bits[i] & sign)
        for i in range(wanted):
            most = max(most, padded_bits[i + taps // 2] & sign)
        found_bits[0] = loudest
        could = found[0] * reach
        found_bits[0] = most
        if could > found[0]:
            for p in range(1, oversampling):
                filtered(padded, phases[p], chunk, row)
                for i in range(wanted):
                    most = max(most, row_bits[i] & sign)
        first += chunk
    found_bits[0] = most
    return found[0]
