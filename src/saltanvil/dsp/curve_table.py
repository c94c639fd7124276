"""A curve as a table of its antiderivative."""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

#: A table reaches this far to both sides, in cells of 1/64; beyond, the curve goes on straight.
REACH, PER_UNIT = 16.0, 64.0
CELLS = int(2 * REACH * PER_UNIT)


def table(curve: Callable[[Array], tuple[Array, Array]]) -> Array:
    """(CELLS, 5) of a curve's rest: its antiderivative by powers of the way into the cell.

    curve: value and slope at the given places. Between nodes a cubic through both (Hermite), the first and the last
    cell straight; the antiderivative is that of the cubics, exact, and 0 at 0.
    """
    nodes = np.linspace(-REACH, REACH, CELLS + 1)
    value, slope = curve(nodes)
    r, s, h = value - nodes, slope - 1.0, 1.0 / PER_UNIT
    rise = np.diff(r) / h
    first, second, third = s[:-1], (3.0 * rise - 2.0 * s[:-1] - s[1:]) / h, (s[:-1] + s[1:] - 2.0 * rise) / h**2
    for end in (0, -1):
        first[end], second[end], third[end] = rise[end], 0.0, 0.0
    result = np.zeros((CELLS, 5))
    result[:, 1], result[:, 2], result[:, 3], result[:, 4] = r[:-1], first / 2.0, second / 3.0, third / 4.0
    area = h * (result[:, 1] + h * (result[:, 2] + h * (result[:, 3] + h * result[:, 4])))
    result[1:, 0] = np.cumsum(area)[:-1]
    result[:, 0] -= result[CELLS // 2, 0]
    return result
