"""Change of gain over a passage, as figures."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

WORKING_DB = 0.1  # less reduction than this counts as none
HISTOGRAM_DB = 8


@dataclass(frozen=True)
class Reduction:
    """Change of gain over the passage. histogram: share of the time within each whole decibel, the last open.

    Where gain only rises, all figures are of the rise and `rises` says so.
    """

    largest_db: float
    mean_db: float
    share: float
    histogram: list[float]
    rises: bool = False


def reduction_of(values: NDArray[np.float32]) -> Reduction:
    """values: reduction in dB per tick, negative where gain rises."""
    rises = float(values.max()) < WORKING_DB < -float(values.min())
    values = np.abs(values) if rises else np.maximum(values, 0.0)
    working = values[values >= WORKING_DB]
    counts = np.bincount(np.minimum(np.rint(values), HISTOGRAM_DB).astype(int), minlength=HISTOGRAM_DB + 1)
    return Reduction(
        largest_db=float(values.max()),
        mean_db=float(working.mean()) if len(working) else 0.0,
        share=len(working) / len(values),
        histogram=(counts / len(values)).tolist(),
        rises=rises,
    )
