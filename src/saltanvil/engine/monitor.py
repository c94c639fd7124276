"""How one listens to the main: over the full range, a small speaker, in mono, or dimmed. Never in a rendered file."""

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp import biquad, mix
from saltanvil.dsp.glide import glide_part
from saltanvil.dsp.state import Stateful
from saltanvil.dsp.units import db_to_gain
from saltanvil.engine.media import Audio
from saltanvil.measure import speaker

MonitorName = Literal["full range", "small speaker", "mono", "dim"]
MONITORS: tuple[MonitorName, ...] = ("full range", "small speaker", "mono", "dim")

DIM_DB = -20.0


class Monitor(Stateful):
    """A monitor at work on the stereo output. A change of it fades along ticks, and its filter always runs."""

    state = ("_now", "_memory", "_state", "_glides")

    def __init__(self, name: MonitorName, rate: int) -> None:
        self.name: MonitorName = name
        self._part = glide_part(rate)
        self._sections = speaker.sections(rate)
        self._now = self._sections.copy()
        self._memory = np.zeros((len(self._sections), 4, 2))
        self._state = np.array([0.0, 1.0, 1.0])
        self._glides = {monitor: np.zeros(mix.GLIDE_STATE) for monitor in MONITORS}

    def __call__(self, x: Audio) -> Audio:
        """(2, frames) of any length."""
        mono = np.ascontiguousarray(np.broadcast_to(np.float32(0.5) * (x[:1] + x[1:]), x.shape))
        small = np.empty_like(mono)
        biquad.cascade(mono, small, self._sections, self._now, self._memory, self._state)
        sounds = {"full range": x, "small speaker": small, "mono": mono, "dim": x}
        y = np.zeros_like(x)
        part = np.empty_like(x)
        for monitor, glide in self._glides.items():
            gain = (db_to_gain(DIM_DB) if monitor == "dim" else 1.0) if monitor == self.name else 0.0
            if gain == 0.0 and not settling(glide):
                continue
            mix.place(sounds[monitor], part, gain, gain, self._part, glide)
            mix.accumulate(part, y)
        return y


def settling(glide: NDArray[np.float64]) -> bool:
    """Whether a gain is still on its way down, or has never been set."""
    return glide[mix.PRIMED] == 0.0 or bool(glide[mix.NOW_LEFT] != 0.0 or glide[mix.FROM_LEFT] != 0.0)
