"""Kernel of the low-end harmonics: chosen harmonics of a band, each as strong as its fundamental, however loud that is.

Two chains of all-passes turn the band into a wave and the same a quarter of a turn later: a cos p and a sin p. Their
sum of squares is the envelope squared, without ripple or delay, and a T_n(cos p) = a cos np is harmonic n and nothing
else (T_n: Chebyshev's polynomials of the first kind).

Poles lie evenly on a scale of ratios and belong to the chains in turn. Over 1.4 octaves, from pole to pole, the phase
of a chain falls by pi; the other's lies half of that beside it, so they differ by pi / 2, with a ripple of 1e-4 rad. The
poles that are missing beyond both ends would turn a sound of frequency f by an alternating series in p / f; the last
poles are moved by the sum of it, so that a cubic of 1e-4 rad is left at 20 and 300 Hz (derived here).
"""

import math

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.kernel import DENORMAL, TICK_FRAMES, after_tick, copy, kernel, share_of

LOWEST_HZ, POLES, RATIO = 1.0, 19, 2.0**0.7
#: Harmonics 2 to 5.
ORDERS = (2, 3, 4, 5)
POSITION, PRIMED, FROM, NOW = 0, 1, 2, 2 + len(ORDERS)
STATE = NOW + len(ORDERS)
#: An envelope below this is silence.
SILENT = 1e-20


def chain_coefficients(rate: int) -> NDArray[np.float64]:
    """(POLES,), all-pass coefficients by pole; the even ones are one chain, the odd ones the other."""
    t: NDArray[np.float64] = math.tan(math.pi * LOWEST_HZ / rate) * RATIO ** np.arange(POLES)
    t[0] *= RATIO / (RATIO + 1.0)
    t[-1] *= (RATIO + 1.0) / RATIO
    return (t - 1.0) / (t + 1.0)


@kernel("void(float32[:,::1],float32[:,::1],float64[::1],float64,float64[::1],float64[:,::1],float64[::1])")
def harmonics(band, y, weights, part, chain, memory, state):  # type: ignore[no-untyped-def]
    """y = the weighted sum of harmonics 2 to 5 of the band. band, y: (channels, frames).

    weights: (4,), wanted; they glide a part of the way each tick. chain: see `chain_coefficients`; memory: (channels,
    POLES). The channels do not know of each other.
    """
    channels, frames = band.shape
    count_of = weights.shape[0]
    now = state[NOW : NOW + count_of]
    before = state[FROM : FROM + count_of]
    if state[PRIMED] == 0.0:
        copy(weights, now)
        copy(weights, before)
        state[PRIMED] = 1.0
    glide = part
    start = 0
    while start < frames:
        phase = int(state[POSITION]) % TICK_FRAMES
        if phase == 0:
            share = share_of(glide)
            glide = after_tick(glide)
            for k in range(count_of):
                before[k] = now[k]
                gap = weights[k] - now[k]
                now[k] = weights[k] if abs(gap) < 1e-6 else now[k] + gap * share
        count = min(TICK_FRAMES - phase, frames - start)
        for c in range(channels):
            z = memory[c]
            for i in range(count):
                first = np.float64(band[c, start + i])
                second = first
                for k in range(0, POLES - 1, 2):
                    a, b = chain[k], chain[k + 1]
                    passed = a * first + z[k]
                    z[k] = first - a * passed
                    first = passed
                    passed = b * second + z[k + 1]
                    z[k + 1] = second - b * passed
                    second = passed
                passed = chain[POLES - 1] * first + z[POLES - 1]
                z[POLES - 1] = first - chain[POLES - 1] * passed
                first = passed
                envelope = math.sqrt(first * first + second * second)
                out = 0.0
                if envelope > SILENT:
                    along = np.float64(phase + i + 1) / TICK_FRAMES
                    t = first / envelope
                    # T_n+1 = 2 t T_n - T_n-1
                    last, current = 1.0, t
                    for k in range(count_of):
                        last, current = current, 2.0 * t * current - last
                        out += (before[k] + (now[k] - before[k]) * along) * current
                    out *= envelope
                y[c, start + i] = np.float32(out)
            if phase + count == TICK_FRAMES:
                for k in range(POLES):
                    if abs(z[k]) < DENORMAL:
                        z[k] = 0.0
        start += count
        state[POSITION] += count
