"""Filters that several processors share: flanks of a band, and a cascade with its state."""

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import biquad
from saltanvil.dsp.state import Stateful
from saltanvil.processors.base import Audio

Slope = Literal["12 dB/oct", "24 dB/oct", "48 dB/oct"]
#: Sections of one flank at the steepest slope.
FLANK = 4


def slope_db(slope: str) -> int:
    return int(slope.split()[0])


def flanks(low_hz: float | None, high_hz: float | None, slope: int, rate: float) -> NDArray[np.float64]:
    """A Butterworth high-pass and low-pass, each where wanted, (2 FLANK, 5)."""
    sections = [biquad.IDENTITY] * (2 * FLANK)
    if low_hz is not None:
        sections[: slope // 12] = biquad.butterworth("high-pass", low_hz, slope, rate)
    if high_hz is not None:
        sections[FLANK : FLANK + slope // 12] = biquad.butterworth("low-pass", high_hz, slope, rate)
    return np.array(sections)


class Filter(Stateful):
    """A cascade with its state, that may be switched off and then costs nothing."""

    state = ("_now", "_memory", "_state")

    def __init__(self, sections: int, channels: int) -> None:
        self.target = np.tile(np.array(biquad.IDENTITY), (sections, 1))
        self.on = False
        self._now = np.zeros((sections, 5))
        self._memory = np.zeros((sections, 4, channels))
        self._state = np.zeros(3)

    def set(self, sections: NDArray[np.float64] | None) -> None:
        """None is off. Switched on again it starts from rest."""
        on = sections is not None
        if on and not self.on:
            self._memory = np.zeros_like(self._memory)
            self._state = np.zeros(3)
        if sections is not None:
            self.target = sections
        self.on = on

    def __call__(self, x: Audio, glide: float) -> Audio:
        """glide: of the processor that it belongs to."""
        if not self.on:
            return x
        y = np.empty_like(x)
        self._state[1] = glide
        biquad.cascade(x, y, self.target, self._now, self._memory, self._state)
        return y
