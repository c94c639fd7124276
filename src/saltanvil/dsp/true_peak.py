"""The peak between the samples: interpolation by a polyphase filter (ITU-R BS.1770-5, Annex 2)."""

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.kernel import inline, kernel
from saltanvil.dsp.oversample import filtered

TRUE_PEAK_TAPS = 32  # a phase; 12 let 0.5 dB of an inter-sample peak through, 24 or more do not

#: Samples the interpolator has to see beyond the one it is at, and those it keeps.
TRUE_PEAK_LATE, TRUE_PEAK_HISTORY = 16, 32
#: What interpolation at 4x with a parabola through three points may still miss, and a gain's own movement.
TRUE_PEAK_MARGIN_DB = 0.03


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


@inline
def refined(before, at, after):  # type: ignore[no-untyped-def]
    """The magnitude of the crest near `at`: of the parabola through three equidistant points where `at` is the largest."""
    low = abs(before) if before * at > 0 else np.float32(0.0)
    high = abs(after) if after * at > 0 else np.float32(0.0)
    here = abs(at)
    tilt = high - low
    bend = np.float32(8.0) * (here + here - low - high)
    crest = here + tilt * tilt / max(bend, np.float32(1e-20))
    return crest if (here >= low and here >= high) else here


@inline
def between_samples(history, phases, rows, out, count):  # type: ignore[no-untyped-def]
    """out[j] = largest magnitude from sample j - 1 on until sample j, for j = 0..count; history: TRUE_PEAK_HISTORY + count."""
    taps = phases.shape[1]
    for p in range(1, 4):
        filtered(history, phases[p], count + 1, rows[p])
    sample = history[taps // 2 - 1 : taps // 2 + count + 1]
    r1, r2, r3 = rows[1], rows[2], rows[3]
    for i in range(1, count + 1):
        crest = max(refined(r3[i - 1], sample[i], r1[i]), refined(sample[i], r1[i], r2[i]))
        out[i] = max(crest, max(refined(r1[i], r2[i], r3[i]), refined(r2[i], r3[i], sample[i + 1])))


@inline
def peaks_between(x, past, phases, rows, last, least, out, count):  # type: ignore[no-untyped-def]
    """out[i] = the highest magnitude around sample i, from its neighbour before to its neighbour after, TRUE_PEAK_LATE late.

    past: (TRUE_PEAK_HISTORY + at least count,), the samples before. rows: (4, at least count + 1), scratch. last: the
    highest between the two samples before, returned for the next stretch. Where nothing can come over `least`, whatever
    the filter makes of it, samples stand for themselves.
    """
    reach = np.float32(0.0)
    for p in range(phases.shape[0]):
        total = np.float32(0.0)
        for t in range(phases.shape[1]):
            total += abs(phases[p, t])
        reach = max(reach, total)
    for i in range(count):
        past[TRUE_PEAK_HISTORY + i] = x[i]
    bits = past.view(np.int32)
    loudest_bits = np.int32(0)
    for i in range(TRUE_PEAK_HISTORY + count):
        loudest_bits = max(loudest_bits, bits[i] & np.int32(0x7FFFFFFF))
    between = rows[0]
    between.view(np.int32)[0] = loudest_bits
    could = between[0] * reach
    between[0] = np.float32(last)
    if could > least:
        between_samples(past, phases, rows, between, count)
    else:
        sample = past[TRUE_PEAK_HISTORY // 2 - 1 : TRUE_PEAK_HISTORY // 2 + count + 1]
        for i in range(1, count + 1):
            between[i] = abs(sample[i])
    for i in range(count):
        out[i] = max(between[i], between[i + 1])
    for i in range(TRUE_PEAK_HISTORY):
        past[i] = past[count + i]
    return np.float64(between[count])


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
