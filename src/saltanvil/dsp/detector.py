"""The level that compressor, free curve, gate, expander and ducker hear: one detector for all of them.

    key --> x^2, or its running mean --> the louder of linked sides --> power

A peak detector takes every sample's square, an RMS detector the mean with the time constant that is set: the first-order
average of the square (Giannoulis, Massberg and Reiss, J. Audio Eng. Soc. 60(6), 2012, eq. 3). Power is never below TINY, so
that its logarithm is defined.
"""

import numpy as np

from saltanvil.dsp.kernel import inline
from saltanvil.dsp.logs import TINY


@inline
def detect(key, start, first, sides, averaging, state, at, stride, squares, power, count):  # type: ignore[no-untyped-def]
    """The power of `count` frames of a key from `start` on, the louder of `sides` channels from `first` on, into power.

    key: (channels, frames); averaging: the coefficient of the running mean, 0 for a peak detector, whose means lie in
    state at `at`, `stride` apart for the channels; squares, power: (at least count,) scratch and result.
    """
    for side in range(sides):
        heard = key[first + side, start : start + count]
        if averaging > 0.0:
            place = at + (first + side) * stride
            mean = state[place]
            for i in range(count):
                square = np.float64(heard[i]) * heard[i]
                mean = square + (mean - square) * averaging
                squares[i] = np.float32(mean)
            state[place] = mean
        else:
            for i in range(count):
                squares[i] = heard[i] * heard[i]
        if side == 0:
            for i in range(count):
                power[i] = max(squares[i], TINY)
        else:
            for i in range(count):
                power[i] = max(squares[i], power[i])
