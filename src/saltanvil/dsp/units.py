"""Conversions of one quantity into another, named `x_to_y`; scalars or arrays."""

import math
from typing import overload

import numpy as np
from numpy.typing import NDArray

#: What silence reads as, in decibels, where minus infinity cannot be shown or stored.
SILENCE_DB = -160.0

NOTE_QUARTERS = {
    "1/64": 1 / 16,
    "1/32": 1 / 8,
    "1/16t": 1 / 6,
    "1/16": 1 / 4,
    "1/16d": 3 / 8,
    "1/8t": 1 / 3,
    "1/8": 1 / 2,
    "1/8d": 3 / 4,
    "1/4t": 2 / 3,
    "1/4": 1.0,
    "1/4d": 1.5,
    "1/2": 2.0,
    "1/1": 4.0,
}


@overload
def db_to_gain(db: float) -> float: ...
@overload
def db_to_gain(db: NDArray[np.floating]) -> NDArray[np.floating]: ...
def db_to_gain(db: float | NDArray[np.floating]) -> float | NDArray[np.floating]:
    """Decibels to an amplitude factor; 0 dB is exactly 1."""
    return 10.0 ** (db / 20.0)


def gain_to_db(gain: float) -> float:
    """An amplitude (0 or more) to decibels; silence reads `SILENCE_DB`."""
    return max(20.0 * math.log10(gain), SILENCE_DB) if gain > 0.0 else SILENCE_DB


def power_to_db(power: float) -> float:
    """A mean square (0 or more) to decibels; silence reads `SILENCE_DB`."""
    return max(10.0 * math.log10(power), SILENCE_DB) if power > 0.0 else SILENCE_DB


def note_to_ms(note: str, tempo_bpm: float) -> float:
    """A note value such as `1/8d` at a tempo in quarter notes a minute, in ms (common practice, no source)."""
    return NOTE_QUARTERS[note] * 60000.0 / tempo_bpm


def ms_to_frames(ms: float, rate: int) -> int:
    """Milliseconds to the nearest whole frame."""
    return round(ms * rate / 1000.0)


def time_constant(ms: float, rate: float) -> float:
    """The one-pole coefficient that covers 1 - 1/e of a step in `ms`.

    Giannoulis, Massberg, Reiss 2012, eq. 7: exp(-1 / (tau fs)); 0 for no time at all.
    """
    return math.exp(-1000.0 / (ms * rate)) if ms > 0.0 else 0.0
