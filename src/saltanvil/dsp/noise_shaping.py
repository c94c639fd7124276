"""Rounding with error feedback: the noise of a quantiser filtered, so that it lies where it is heard least."""

import numpy as np

from saltanvil.dsp.kernel import kernel

#: An error beyond so many steps comes from clipping, which must not be fed back.
MAX_ERROR = 2.0


@kernel("void(float64[:,::1],float64[:,::1],float64[::1],float64[:,::1],float64,float64,float64[:,::1])")
def shaped(x, noise, taps, errors, low, high, y):  # type: ignore[no-untyped-def]
    """Round x, (channels, frames) in steps of the last bit, with dither `noise` of the same shape, into y.

        v = x + sum of taps[k] e[n-1-k],  y = round(v + noise),  e = y - v

    so that y - x is e filtered by 1 + taps[0] z^-1 + taps[1] z^-2 ... errors: (channels, taps), the last ones, newest first;
    low, high: what y is held between. Gerzon and Craven, "Optimal Noise Shaping and Dither of Digital Signals", AES 87th
    Convention, 1989.
    """
    count = taps.shape[0]
    for c in range(x.shape[0]):
        past = errors[c]
        for i in range(x.shape[1]):
            v = x[c, i]
            for k in range(count):
                v += taps[k] * past[k]
            rounded = min(max(np.rint(v + noise[c, i]), low), high)
            for k in range(count - 1, 0, -1):
                past[k] = past[k - 1]
            past[0] = min(max(rounded - v, -MAX_ERROR), MAX_ERROR)
            y[c, i] = rounded
