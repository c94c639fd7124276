"""What a study saw of a step over the passage, and what a processor makes of it: figures and hints of its own."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from saltanvil.measure.figures import Figures
from saltanvil.measure.reduction import Reduction

Audio = NDArray[np.float32]


@dataclass(frozen=True)
class Fact:
    """A figure that only this kind of step has."""

    name: str
    label: str
    value: float
    unit: str


@dataclass(frozen=True)
class Hint:
    """A measured fact, why it matters, and the setting to change."""

    name: str
    text: str
    setting: str | None


@dataclass(frozen=True)
class Evidence:
    """A step over the passage: aligned sound before and after, (channels, frames), and per tick what it did.

    rows: what else the step tells, by name; reduction: None where it never changes a gain; key: the name of its outside
    key; key_peak_db: peak of what reaches its detector, before the key filter, in dBFS.
    """

    before: Audio
    after: Audio
    rate: int
    figures_before: Figures
    figures_after: Figures
    reduction: Reduction | None
    reduction_db: NDArray[np.float32]
    detector_db: NDArray[np.float32]
    rows: dict[str, NDArray[np.float32]]
    key: str | None = None
    key_peak_db: float | None = None

    @property
    def loudest_db(self) -> float:
        """The loudest level at the detector."""
        return float(self.detector_db.max(initial=-160.0))

    @property
    def heard(self) -> str:
        """The beginning of a sentence that says how loud the detector's input is."""
        return "The detector level reaches" if self.key is None else f"The key, {self.key}, reaches"

    def below_threshold(self, threshold_db: float, consequence: str) -> Hint:
        text = f"{self.heard} {self.loudest_db:.1f} dB at most, and the threshold is at {threshold_db:.1f} dB: {consequence}."
        return Hint("idle", text, "threshold_db")
