"""The de-esser's kernels: the level of a band, alone or against the whole, and a cut of the band that moves.

The cut is a high-order shelf after Butterworth's polynomial: |H|^2 = (1 + g^2 w^2M) / (1 + w^2M), which leaves the
lows alone and takes what a Butterworth high-pass of order M lets through (compare Holters and Zoelzer, "Parametric
Higher-Order Shelving Filters", EUSIPCO 2006; from memory). Each second-order section is a state-variable filter whose
poles stay while its zeros follow the gain: (K^2 s^2 + K k s + 1) / (s^2 + k s + 1), K = g^(1/M); with g = 1 the sound
passes bit for bit. State-variable form after V. Zavalishin, "The Art of VA Filter Design" (from memory).
"""

import math

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.kernel import DENORMAL, TICK_FRAMES, after_tick, copy, copy_rows, kernel, share_of
from saltanvil.dsp.logs import TINY, exp2_block, log2_block

#: A section: tan(pi f / rate), damping k, the power of g that is K, weight of the second-order term (0 makes a bell).
TANGENT, DAMPING, POWER, SQUARE, SECTION = range(5)
SECTIONS = 8
# Target settings after the sections; all glide.
ONLY_BAND, MIX, GLIDING = range(3)
POSITION, PRIMED, GLIDE, STATE = range(4)
#: Sound this far below full scale is not called sibilant for being all hiss.
QUIET_POWER = np.float32(1e-6)


def shelf_sections(frequency_hz: float, slope_db: int, power: float, rate: float) -> list[list[float]]:
    """A high shelf of order slope/6 that follows g (power 1) or 1/g (power -1)."""
    order = slope_db // 6
    tangent = math.tan(math.pi * min(frequency_hz, 0.49 * rate) / rate)
    dampings = [2.0 * math.cos((2 * k + 1) * math.pi / (2 * order)) for k in range(order // 2)]
    return [[tangent, damping, power / order, 1.0] for damping in dampings]


def cut_response_db(
    sections: NDArray[np.float64], gain: float, frequencies_hz: NDArray[np.float64], rate: float
) -> NDArray[np.float64]:
    """Magnitude of the cut at the frequencies while its gain stands still."""
    s = 1j * np.tan(np.pi * frequencies_hz / rate)
    total = np.ones_like(s)
    for tangent, damping, power, square in sections:
        k = gain**power
        p = s / tangent
        total *= 1.0 + ((k * k - 1.0) * square * p * p + (k - 1.0) * damping * p) / (p * p + damping * p + 1.0)
    return np.asarray(20.0 * np.log10(np.abs(total)), dtype=np.float64)


@kernel("void(float32[:,::1],float32[:,::1],float32[:,::1],float64[:,::1],float64,boolean)")
def band_level(band, whole, level, means, coefficient, relative):  # type: ignore[no-untyped-def]
    """RMS of the band, or its share of the whole's, as an amplitude. means: (2, channels); all else (channels, frames)."""
    channels, frames = band.shape
    for c in range(channels):
        own = means[0, c]
        all_of_it = means[1, c]
        out = level[c]
        in_band = band[c]
        source = whole[c]
        if relative:
            for i in range(frames):
                square = np.float64(in_band[i]) * in_band[i]
                own = square + (own - square) * coefficient
                square = np.float64(source[i]) * source[i]
                all_of_it = square + (all_of_it - square) * coefficient
                out[i] = np.float32(own / max(all_of_it, QUIET_POWER))
        else:
            for i in range(frames):
                square = np.float64(in_band[i]) * in_band[i]
                own = square + (own - square) * coefficient
                square = np.float64(source[i]) * source[i]
                all_of_it = square + (all_of_it - square) * coefficient
                out[i] = np.float32(own)
        for i in range(frames):
            out[i] = np.sqrt(out[i])
        means[0, c] = own
        means[1, c] = all_of_it


@kernel(
    "void(float32[:,::1],float32[:,::1],float32[:,::1],float64[:,::1],float64[:,::1],float64[::1],float64[::1],"
    "float64[:,:,::1],float64[::1],float32[:,::1])"
)
def cut(x, gain, y, sections, moving, settings, now, memory, state, work):  # type: ignore[no-untyped-def]
    """Take `gain` from the band, or from everything.

    x, gain, y: (channels, frames). sections, moving: (SECTIONS, SECTION), wanted and current. settings, now:
    (GLIDING,). memory: (channels, SECTIONS, 2). work: (6, TICK_FRAMES).
    """
    channels, frames = x.shape
    bits = work.view(np.int32)
    power, scratch, logarithm, exponent, factor = work[0], work[1], work[2], work[3], work[4]
    shift = bits[5]
    if state[PRIMED] == 0.0:
        copy_rows(sections, moving)
        copy(settings, now)
        state[PRIMED] = 1.0
    glide = state[GLIDE]
    start = 0
    while start < frames:
        phase = int(state[POSITION]) % TICK_FRAMES
        if phase == 0:
            share = share_of(glide)
            glide = after_tick(glide)
            for s in range(SECTIONS):
                for i in range(SECTION):
                    gap = sections[s, i] - moving[s, i]
                    moving[s, i] = sections[s, i] if abs(gap) < 1e-6 else moving[s, i] + gap * share
            for i in range(GLIDING):
                gap = settings[i] - now[i]
                now[i] = settings[i] if abs(gap) < 1e-4 else now[i] + gap * share
        count = min(TICK_FRAMES - phase, frames - start)
        mix = np.float32(now[MIX])
        only = np.float32(now[ONLY_BAND])
        for c in range(channels):
            source = x[c, start : start + count]
            applied = gain[c, start : start + count]
            out = y[c, start : start + count]
            for i in range(count):
                power[i] = max(applied[i], TINY)
                out[i] = source[i]
            log2_block(power, bits[0], scratch, bits[1], logarithm, count)
            for s in range(SECTIONS):
                if moving[s, POWER] == 0.0:
                    memory[c, s, 0] = 0.0
                    memory[c, s, 1] = 0.0
                    continue
                share = np.float32(moving[s, POWER])
                for i in range(count):
                    exponent[i] = logarithm[i] * share
                exp2_block(exponent, scratch, shift, factor, bits[4], count)
                g, k, square = moving[s, TANGENT], moving[s, DAMPING], moving[s, SQUARE]
                a1 = 1.0 / (1.0 + g * (g + k))
                a2 = g * a1
                a3 = g * a2
                first, second = memory[c, s, 0], memory[c, s, 1]
                for i in range(count):
                    v = np.float64(out[i])
                    rest = v - second
                    band = a1 * first + a2 * rest
                    low = second + a2 * first + a3 * rest
                    first = 2.0 * band - first
                    second = 2.0 * low - second
                    more = np.float64(factor[i]) - 1.0
                    high = v - k * band - low
                    out[i] = np.float32(v + more * ((more + 2.0) * square * high + k * band))
                if phase + count == TICK_FRAMES:
                    first = 0.0 if abs(first) < DENORMAL else first
                    second = 0.0 if abs(second) < DENORMAL else second
                memory[c, s, 0], memory[c, s, 1] = first, second
            for i in range(count):
                whole = source[i] * applied[i]
                wet = whole + only * (out[i] - whole)
                out[i] = source[i] + mix * (wet - source[i])
        start += count
        state[POSITION] += count
