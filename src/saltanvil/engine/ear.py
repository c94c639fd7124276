"""Listening checks between the main and the ear; never in a rendered file."""

from typing import Literal

import numpy as np

from saltanvil.dsp import biquad, mix
from saltanvil.dsp.units import db_to_gain
from saltanvil.engine.plan import Audio

Ear = Literal["full", "small", "mono", "quiet"]

QUIET_DB = -20.0
#: A small speaker: nothing much below 180 Hz or above 9 kHz, one channel, a presence bump (common practice, no source).
SMALL = (
    ("high-pass", 180.0, 0.54, 0.0),
    ("high-pass", 180.0, 1.31, 0.0),
    ("bell", 2000.0, 0.7, 3.0),
    ("low-pass", 9000.0, 0.71, 0.0),
)


class EarCheck:
    """One listening check at work on the stereo output."""

    def __init__(self, ear: Ear, rate: int) -> None:
        self.ear = ear
        self._sections = np.array([biquad.cookbook(kind, hz, q, db, rate) for kind, hz, q, db in SMALL])
        self._now = self._sections.copy()
        self._memory = np.zeros((len(SMALL), 4, 2))
        self._state = np.array([0.0, 1.0, 1.0])
        self._glide = np.zeros(mix.GLIDE_STATE)

    def __call__(self, x: Audio) -> Audio:
        if self.ear == "full":
            return x
        y = np.empty_like(x)
        if self.ear == "quiet":
            gain = db_to_gain(QUIET_DB)
            mix.place(x, y, gain, gain, 1.0, self._glide)
            return y
        y[:] = 0.5 * (x[0] + x[1])
        if self.ear == "small":
            biquad.cascade(y, y, self._sections, self._now, self._memory, self._state)
        return y
