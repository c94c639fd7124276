"""How sure it is that a bell on a spectrum is a resonance, and not what the sound is made of.

An added resonance raises everything that passes: the partials against the partials around them, the mean power, and the mean
level in decibels, each by about its height. A note or a formant stands out of one of them, or of a spectrum that is rough
all around. So a bell is fitted to each of the three by itself, on a straight line through an octave on either side, and its
height is held against what the fit leaves. (The method and its constants are ours, found on the sounds of `tests/material.py`.)
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.bells import bell_db

Array = NDArray[np.float64]

#: Spectra are smoothed by a bell curve of this spread, in octaves: notes lie closer than resonances are wide.
SMOOTH_OCT = 1.0 / 16.0
#: Of the octave on either side the near part counts most.
REACH_OCT, SPREAD_OCT = 1.0, 0.6
#: Bands less than this under the highest count, and so many are needed.
AUDIBLE_DB, MIN_BANDS = 55.0, 8
#: What lies over the line elsewhere counts less at each pass; the roughness that no spectrum is without, in dB.
PASSES, MAX_REST_DB, FLOOR_DB = 4, 6.0, 0.3
#: The mean of heights over 1.5 times the roughness at which it is as likely as not, and how fast certainty rises from there.
EVEN, STEEP = 2.5, 1.5


@dataclass(frozen=True)
class View:
    """One way to look at the sound: level in dB and weight by band. smooth: whether its bands were smoothed."""

    octaves: Array
    level: Array
    weight: Array
    smooth: bool


def smoothing(octaves: Array) -> Array:
    """(bands, bands): means of powers around each band."""
    kernel = np.exp(-0.5 * ((octaves[:, None] - octaves[None]) / SMOOTH_OCT) ** 2)
    return np.asarray(kernel / kernel.sum(axis=1, keepdims=True))


def spectra(levels: Array, octaves: Array) -> list[View]:
    """Mean power and mean level of stretches (stretches, bands)."""
    kernel = smoothing(octaves)
    powers = 10.0 ** (levels / 10.0)
    mean = 10.0 * np.log10(kernel @ powers.mean(axis=0) + 1e-14)
    usual = 10.0 * np.log10(powers @ kernel.T + 1e-14).mean(axis=0)
    weight = (mean > mean.max() - AUDIBLE_DB).astype(np.float64)
    return [View(octaves, mean, weight, True), View(octaves, usual, weight, True)]


def standing(view: View, frequency_hz: float, q: float, height_db: float) -> float | None:
    """Height of a bell in a view over 1.5 times what the fit leaves; None where there is too little around it."""
    bell = bell_db(2.0**view.octaves, frequency_hz, q, height_db)
    if view.smooth:
        bell = 10.0 * np.log10(smoothing(view.octaves) @ 10.0 ** (bell / 10.0))
    away = view.octaves - math.log2(frequency_hz)
    here = np.abs(away) <= REACH_OCT
    weight = view.weight[here] * np.exp(-0.5 * (away[here] / SPREAD_OCT) ** 2)
    if np.count_nonzero(weight > 1e-3) < MIN_BANDS:
        return None
    level, known = view.level[here], np.stack([np.ones(here.sum()), away[here], bell[here] / height_db], axis=1)
    counted = weight
    height = rough = 0.0
    for _ in range(PASSES):
        some = known.T * counted
        values = np.linalg.solve(some @ known + 1e-6 * np.eye(3), some @ level)
        rest = level - known @ values
        height = float(values[2])
        rough = 1.5 * math.sqrt(float((weight * np.minimum(rest**2, MAX_REST_DB**2)).sum() / weight.sum())) + FLOOR_DB
        counted = weight / (1.0 + (np.maximum(rest, 0.0) / rough) ** 2)
    return height / rough


def certainty(views: list[View], frequency_hz: float, q: float, height_db: float) -> float:
    """0 to 1."""
    stands = [one for view in views if (one := standing(view, frequency_hz, q, height_db)) is not None]
    if not stands:
        return 0.0
    return 1.0 / (1.0 + math.exp(-STEEP * (sum(stands) / len(stands) - EVEN)))
