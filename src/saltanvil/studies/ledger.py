"""What a scope did to the passage: figures before and after, gain reduction, and measured hints."""

from dataclasses import asdict, dataclass

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.engine.scope import Compared
from saltanvil.measure.figures import Figures, figures_of, match_db
from saltanvil.session.document import Step

WORKING_DB = 0.1  # less reduction than this counts as none
HISTOGRAM_DB = 8


@dataclass(frozen=True)
class Reduction:
    """Gain reduction over the passage. histogram: share of the time within each whole decibel, the last open."""

    largest_db: float
    mean_db: float
    share: float
    histogram: list[float]


@dataclass(frozen=True)
class Hint:
    """A measured fact, why it matters, and the setting to change."""

    name: str
    text: str
    setting: str | None


@dataclass(frozen=True)
class Ledger:
    before: Figures
    after: Figures
    reduction: Reduction | None
    matched_db: float
    hints: list[Hint]

    def as_dict(self) -> dict[str, object]:
        return asdict(self)


def ledger_of(found: Compared, rate: int, step: Step | None) -> Ledger:
    """The ledger of a compared scope. matched_db is what brings *before* to the loudness of *after*."""
    before, after = figures_of(found.before, rate), figures_of(found.after, rate)
    reduction = reduction_of(found.reduction_db) if len(found.reduction_db) else None
    return Ledger(
        before,
        after,
        reduction,
        match_db(found.before, found.after, rate),
        hints_of(found, before, after, reduction, rate, step),
    )


def reduction_of(values: NDArray[np.float32]) -> Reduction:
    """values: reduction in dB per tick, 0 or more."""
    working = values[values >= WORKING_DB]
    counts = np.bincount(np.minimum(np.rint(values), HISTOGRAM_DB).astype(int), minlength=HISTOGRAM_DB + 1)
    return Reduction(
        largest_db=float(values.max()),
        mean_db=float(working.mean()) if len(working) else 0.0,
        share=len(working) / len(values),
        histogram=(counts / len(values)).tolist(),
    )


def hints_of(
    found: Compared, before: Figures, after: Figures, reduction: Reduction | None, rate: int, step: Step | None
) -> list[Hint]:
    hints = []
    if after.sample_peak_dbfs > 0.0:
        hints.append(
            Hint(
                "over",
                f"Peaks leave at {after.sample_peak_dbfs:+.1f} dBFS. Nothing clips in here, but a file of whole numbers would: "
                "take the level down.",
                None,
            )
        )
    if before.sample_peak_dbfs <= -120.0:
        hints.append(
            Hint(
                "silent",
                "Nothing sounds here in this passage. Choose another passage, or look for a mute further up.",
                None,
            )
        )
        return hints
    if reduction is None or step is None or step.kind != "compressor":
        return hints
    settings = step.settings.model_dump()
    if reduction.largest_db < WORKING_DB and settings["ratio"] > 1.0:
        loudest = float(found.detector_db.max(initial=-160.0))
        hints.append(
            Hint(
                "idle",
                f"The detector hears {loudest:.1f} dB at most, and the threshold is at {settings['threshold_db']:.1f} dB: "
                "nothing is taken.",
                "threshold_db",
            )
        )
        return hints
    if reduction.share > 0.95:
        least = float(np.percentile(found.reduction_db, 2))
        if least > 1.0:
            hints.append(
                Hint(
                    "always",
                    f"Gain stays at least {least:.1f} dB down almost all the time: part of this is only a lower level. "
                    "A shorter release or a higher threshold lets it come back.",
                    "release_ms",
                )
            )
    unreleased = hits_not_released(found, rate)
    if unreleased is not None:
        late, total, down = unreleased
        hints.append(
            Hint(
                "release",
                f"The gain is still {down:.1f} dB down when the next hit arrives ({late} of {total}). "
                "A shorter release would let go in time.",
                "release_ms",
            )
        )
    lost = before.crest_db - after.crest_db
    if lost > 8.0:
        hints.append(
            Hint(
                "crest",
                f"Crest fell by {lost:.1f} dB: hits hardly stand out now. A longer attack or attack return gives them back.",
                "attack_return_db",
            )
        )
    return hints


def hits_not_released(found: Compared, rate: int) -> tuple[int, int, float] | None:
    """(hits met with over 1 dB of reduction, all hits, median reduction then), if that is most of at least 4 hits.

    A hit is a rise of the peak level by 9 dB within 20 ms, at least 80 ms after the last.
    """
    ticks = min(len(found.reduction_db), found.before.shape[1] // TICK_FRAMES)
    if ticks < 16:
        return None
    peaks = np.abs(found.before[:, : ticks * TICK_FRAMES]).reshape(found.before.shape[0], ticks, TICK_FRAMES).max(axis=(0, 2))
    level = 20.0 * np.log10(np.maximum(peaks, 1e-6))
    span = max(1, round(0.02 * rate / TICK_FRAMES))
    rise = level[span:] - level[:-span]
    gap = round(0.08 * rate / TICK_FRAMES)
    hits: list[int] = []
    for at in np.flatnonzero((rise > 9.0) & (level[span:] > level.max() - 24.0)):
        if not hits or at - hits[-1] > gap:
            hits.append(int(at))
    met = [float(found.reduction_db[at]) for at in hits if found.reduction_db[at] > 1.0]
    if len(hits) < 4 or len(met) * 2 < len(hits):
        return None
    return len(met), len(hits), float(np.median(met))
