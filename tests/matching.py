"""Matches of arrays."""

import numpy as np

from saltanvil.measure.loudness import hop_energies
from saltanvil.studies.match.match import match_of_energies


def match_of(untreated, treated, rate):
    """The match of two aligned sides, each (channels, frames)."""
    u, t = np.ascontiguousarray(untreated), np.ascontiguousarray(treated)
    return match_of_energies(*(hop_energies(np.ascontiguousarray(x), rate) for x in (u, t, u + t)))
