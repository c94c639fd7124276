"""The spectrum of a test's tone as a line of the picture."""

import numpy as np

from saltanvil.measure import distortion
from saltanvil.studies.bench.result import BenchLine
from saltanvil.studies.bench.runner import Array
from saltanvil.studies.scope.pictures import rounded

SPECTRUM_POINTS = 600
FLOOR_DB = -180.0


def spectrum_line(name: str, x: Array, rate: int) -> BenchLine:
    """The highest line of each of SPECTRUM_POINTS stretches of the frequency axis, even in octaves, so that none is lost."""
    power = distortion.lines(x)
    hz = np.arange(len(power)) * rate / len(x)
    edges = np.unique(np.searchsorted(hz, np.geomspace(20.0, rate / 2, SPECTRUM_POINTS)))
    edges = edges[edges < len(power)]
    highest = [int(a + power[a:b].argmax()) for a, b in zip(edges, [*edges[1:], len(power)], strict=True) if b > a]
    level = 10.0 * np.log10(np.maximum(power[highest], 10.0 ** (FLOOR_DB / 10.0)))
    return BenchLine(name, rounded(hz[highest], 1), rounded(level, 1))
