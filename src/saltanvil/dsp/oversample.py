"""Oversampling by factors of two: half-band filters up and down, linear phase or minimum phase.

A stage makes two samples of one by a filter split into the taps that fall on even and on odd places; on the way down
a filter takes one sample of two. With linear phase the odd half is a pure delay, but for the last stage down: it has
to be quiet from half the rate on, or what lies just above would fold back to just below.
"""

import math
from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.kernel import inline

#: Taps of each half by stage, from the base rate up: the first has the narrow transition, 100 dB down.
HALF_TAPS = (64, 16, 12, 8)
#: The last stage down, 19.7 kHz to 24 kHz at 48 kHz: what a harmonic just above half the rate leaves is 100 dB down too.
LAST_HALF_TAPS = 72
LAST_CUTOFF = 21.8 / 96.0
MAX_TAPS = max(*HALF_TAPS, LAST_HALF_TAPS)
STAGES = len(HALF_TAPS)
#: How many of each half there are, by way (up, down) and stage.
TAPS = np.array([HALF_TAPS, (LAST_HALF_TAPS, *HALF_TAPS[1:])], np.int64)
KAISER_BETA = 10.06  # 100 dB, Kaiser's formula (from memory)


def half_band(half_taps: int) -> NDArray[np.float64]:
    """A half-band low-pass of 2 half_taps - 1 taps, Kaiser-windowed sinc; every second tap but the middle is 0."""
    centre = half_taps - 1
    n = np.arange(2 * half_taps - 1) - centre
    taps = 0.5 * np.sinc(n / 2.0) * np.kaiser(2 * half_taps - 1, KAISER_BETA)
    taps[0::2] *= 0.5 / taps[0::2].sum()  # half_taps is even, so the middle is odd
    return taps


def last_low_pass() -> NDArray[np.float64]:
    """The last stage's low-pass, 2 LAST_HALF_TAPS - 1 taps."""
    n = np.arange(2 * LAST_HALF_TAPS - 1) - (LAST_HALF_TAPS - 1)
    taps = 2.0 * LAST_CUTOFF * np.sinc(2.0 * LAST_CUTOFF * n) * np.kaiser(len(n), KAISER_BETA)
    return np.asarray(taps / taps.sum(), dtype=np.float64)


def minimum_phase(taps: NDArray[np.float64]) -> NDArray[np.float64]:
    """The filter with the same magnitude and the least delay, by the real cepstrum (Oppenheim and Schafer; from memory)."""
    size = 1 << 14
    magnitude = np.maximum(np.abs(np.fft.fft(taps, size)), 1e-6)
    cepstrum = np.fft.ifft(np.log(magnitude)).real
    cepstrum[1 : size // 2] *= 2.0
    cepstrum[size // 2 + 1 :] = 0.0
    result = np.fft.ifft(np.exp(np.fft.fft(cepstrum))).real[: len(taps)]
    return np.asarray(result / result.sum(), dtype=np.float64)


@dataclass(frozen=True)
class Ladder:
    """The stages for one factor.

    ups, downs: (STAGES, 2, MAX_TAPS), even and odd taps by stage, oldest sample first, for gain 1 on the way up.
    delay: of up and down together at low frequencies, in samples at the highest rate.
    """

    factor: int
    ups: NDArray[np.float32]
    downs: NDArray[np.float32]
    delay: float


def ladder(factor: int, phase: str) -> Ladder:
    """Filters for a factor of 1, 2, 4, 8 or 16; phase: linear or minimum."""
    result = np.zeros((2, STAGES, 2, MAX_TAPS))
    delay = 0.0
    for stage in range(int(math.log2(factor))):
        up = half_band(HALF_TAPS[stage])
        for way, taps in enumerate((up, up if stage else last_low_pass())):
            taps = np.append(minimum_phase(taps) if phase == "minimum" else taps, 0.0)
            result[way, stage, 0, : len(taps) // 2] = 2.0 * taps[0::2][::-1]
            result[way, stage, 1, : len(taps) // 2] = 2.0 * taps[1::2][::-1]
            # Group delay at low frequencies: the first moment of the taps.
            delay += float((np.arange(len(taps)) * taps).sum() / taps.sum()) * factor / 2 ** (stage + 1)
    ups, downs = result.astype(np.float32)
    return Ladder(factor, ups, downs, delay)


@cache
def whole(factor: int, phase: str = "linear") -> tuple[Ladder, int, int]:
    """The filters, the latency in frames of what is shaped between them one sample late, and the samples at the highest
    rate to wait so that it is whole."""
    stages = ladder(factor, phase)
    if factor == 1:
        return stages, 0, 0
    total = stages.delay + 1.0
    latency = math.ceil(total / factor - 1e-6)
    return stages, latency, round(latency * factor - total)


@cache
def both_ways(factor: int, phase: str = "linear") -> NDArray[np.float32]:
    """The taps up and down, (2, ...), as the kernels take them."""
    stages = ladder(factor, phase)
    return np.stack((stages.ups, stages.downs))


@inline
def filtered(memory, taps, count, out):  # type: ignore[no-untyped-def]
    """out[i] = sum of taps[t] memory[i + t]: a stretch through a FIR filter, taps a multiple of four."""
    for i in range(count):
        out[i] = np.float32(0.0)
    # Eight taps at a time, so that the sums are read and written less often; what is left, four at a time.
    eights = taps.shape[0] // 8 * 8
    for t in range(0, eights, 8):
        h0, h1, h2, h3 = taps[t], taps[t + 1], taps[t + 2], taps[t + 3]
        h4, h5, h6, h7 = taps[t + 4], taps[t + 5], taps[t + 6], taps[t + 7]
        x = memory[t : t + count + 7]
        for i in range(count):
            low = h0 * x[i] + h1 * x[i + 1] + h2 * x[i + 2] + h3 * x[i + 3]
            high = h4 * x[i + 4] + h5 * x[i + 5] + h6 * x[i + 6] + h7 * x[i + 7]
            out[i] += low + high
    for t in range(eights, taps.shape[0], 4):
        h0, h1, h2, h3 = taps[t], taps[t + 1], taps[t + 2], taps[t + 3]
        x = memory[t : t + count + 3]
        for i in range(count):
            out[i] += h0 * x[i] + h1 * x[i + 1] + h2 * x[i + 2] + h3 * x[i + 3]


@inline
def doubled(x, memory, halves, taps, linear, even, odd, out, count):  # type: ignore[no-untyped-def]
    """Twice as many samples of `count` given ones. memory: taps - 1 samples of the past, then room for the new."""
    past = taps - 1
    new = memory[past : past + count]
    for i in range(count):
        new[i] = x[i]
    filtered(memory, halves[0, :taps], count, even)
    if linear:
        # Of the odd taps only the middle one is not zero, and it is 1.
        middle = memory[taps // 2 : taps // 2 + count]
        for i in range(count):
            odd[i] = middle[i]
    else:
        filtered(memory, halves[1, :taps], count, odd)
    for i in range(count):
        out[2 * i] = even[i]
        out[2 * i + 1] = odd[i]
    for i in range(past):
        memory[i] = memory[count + i]


@inline
def halved(x, memories, halves, taps, linear, scratch, out, count):  # type: ignore[no-untyped-def]
    """`count` samples of twice as many. memories: (2, ...), even and odd samples, taps - 1 of the past (odd: taps)."""
    past = taps - 1
    even = memories[0, past : past + count]
    odd = memories[1, past + 1 : past + 1 + count]
    for i in range(count):
        even[i] = x[2 * i]
        odd[i] = x[2 * i + 1]
    half = np.float32(0.5)
    filtered(memories[0], halves[0, :taps], count, out)
    if linear:
        middle = memories[1, taps // 2 : taps // 2 + count]
        for i in range(count):
            scratch[i] = middle[i]
    else:
        filtered(memories[1], halves[1, :taps], count, scratch)
    for i in range(count):
        out[i] = half * (out[i] + scratch[i])
    for i in range(past):
        memories[0, i] = memories[0, count + i]
    for i in range(past + 1):
        memories[1, i] = memories[1, count + i]
