"""The bell of the Audio EQ Cookbook in its analogue form, and its Q by its width."""

import math

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


def bell_db(hz: Array, middle_hz: float, q: float, height_db: float) -> Array:
    """Gain of an analogue bell of the cookbook."""
    s = 1j * hz / middle_hz
    a = 10.0 ** (height_db / 40.0)
    return np.asarray(20.0 * np.log10(np.abs((s * s + s * a / q + 1.0) / (s * s + s / (a * q) + 1.0))))


def width_to_q(octaves: float) -> float:
    """Q of a bell this wide (Audio EQ Cookbook, analogue form)."""
    return 1.0 / (2.0 * math.sinh(math.log(2.0) / 2.0 * octaves))


def q_to_width(q: float) -> float:
    """Octaves of a bell of this Q."""
    return 2.0 / math.log(2.0) * math.asinh(1.0 / (2.0 * q))
