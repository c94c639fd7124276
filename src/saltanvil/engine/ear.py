"""Listening checks between the main and the ear; never in a rendered file."""

from typing import Literal

import numpy as np

from saltanvil.dsp import biquad, mix
from saltanvil.dsp.units import db_to_gain
from saltanvil.engine.rack import Audio
from saltanvil.measure import speaker

Ear = Literal["full", "small", "mono", "quiet"]

QUIET_DB = -20.0


class EarCheck:
    """One listening check at work on the stereo output."""

    def __init__(self, ear: Ear, rate: int) -> None:
        self.ear = ear
        self._sections = speaker.sections(rate)
        self._now = self._sections.copy()
        self._memory = np.zeros((len(self._sections), 4, 2))
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
