"""A small speaker, as a model: one channel, a limited band, and no distortion whatever the level.

Nothing much below 180 Hz (24 dB per octave, Butterworth) or above 9 kHz (12 dB per octave), and a presence of 3 dB about
2 kHz (common practice, no source). Being linear it adds nothing: what sounds through it was there before.
"""

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import biquad
from saltanvil.measure.figures import match_db

LOW_HZ, HIGH_HZ, PRESENCE_HZ, PRESENCE_DB = 180.0, 9000.0, 2000.0, 3.0

Audio = NDArray[np.float32]


def sections(rate: int) -> NDArray[np.float64]:
    """The model as a cascade, (4, 5)."""
    return np.array(
        [
            *biquad.butterworth("high-pass", LOW_HZ, 24, rate),
            biquad.cookbook("bell", PRESENCE_HZ, 0.7, PRESENCE_DB, rate),
            *biquad.butterworth("low-pass", HIGH_HZ, 12, rate),
        ]
    )


def through(x: Audio, rate: int) -> Audio:
    """(channels, frames), mono or stereo, to what a small speaker plays, (1, frames)."""
    y = np.ascontiguousarray(x.mean(axis=0, dtype=np.float32, keepdims=True))
    result = sections(rate)
    state = np.array([0.0, 1.0, 0.0])
    biquad.cascade(y, y, result, np.zeros_like(result), np.zeros((len(result), 4, 1)), state)
    return y


def louder_lu(before: Audio, after: Audio, rate: int) -> float:
    """How much louder `after` is than `before` on a small speaker, by integrated loudness."""
    return match_db(through(before, rate), through(after, rate), rate)
