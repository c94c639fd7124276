"""What can be asked of a step as a result: a figure of the passage, and the settings by which it is reached."""

import math
from collections.abc import Callable
from dataclasses import dataclass

from saltanvil.measure.figures import FIGURES, Figures
from saltanvil.processors.evidence import Evidence

Measure = Callable[[Evidence], float | None]


@dataclass(frozen=True)
class Aim:
    """A figure that can be asked for.

    measure: reads it from what was measured; None where the passage does not tell it. settings: those that reach it, the usual
    one first. target: a usual one (common practice, no source), between low and high. tolerance: how near is near enough.
    counted: a number of events a second, so that half an event over the passage is near enough.
    """

    name: str
    label: str
    unit: str
    measure: Measure
    settings: tuple[str, ...]
    target: float
    low: float
    high: float
    tolerance: float = 0.05
    counted: bool = False


@dataclass(frozen=True)
class LevelAim:
    """A figure of a whole strip or lane as it leaves."""

    name: str
    label: str
    unit: str
    measure: Callable[[Figures], float | None]
    settings: tuple[str, ...]
    target: float
    low: float
    high: float
    tolerance: float = 0.05


#: What a starting point finds on the passage where a gain at the output keeps the loudness.
KEEP_LOUDNESS = (("louder_lu", 0.0, "output_db"),)


# ---- figures that several kinds of step are asked for --------------------------------------------------------------------


def gr_max(seen: Evidence) -> float | None:
    return None if seen.reduction is None or seen.reduction.rises else seen.reduction.largest_db


def gr_mean(seen: Evidence) -> float | None:
    return None if seen.reduction is None or seen.reduction.rises else seen.reduction.mean_db


def peaks_down(seen: Evidence) -> float | None:
    before, after = seen.figures_before.sample_peak_dbfs, seen.figures_after.sample_peak_dbfs
    return None if before <= SILENT_DBFS or after <= SILENT_DBFS else before - after


def louder(seen: Evidence) -> float | None:
    before, after = seen.figures_before.integrated_lufs, seen.figures_after.integrated_lufs
    return None if before is None or after is None else after - before


def loudness_after(seen: Evidence) -> float | None:
    return seen.figures_after.integrated_lufs


def true_peak_after(seen: Evidence) -> float | None:
    return sounding(seen.figures_after.true_peak_dbtp)


def crest_after(seen: Evidence) -> float | None:
    return None if seen.figures_after.sample_peak_dbfs <= SILENT_DBFS else seen.figures_after.crest_db


def range_after(seen: Evidence) -> float | None:
    return seen.figures_after.loudness_range_lu if seen.figures_after.max_short_term_lufs is not None else None


def named(figure: str) -> tuple[str, str]:
    """Label and unit of an aim that is a figure as it stands."""
    return FIGURES[figure].label, FIGURES[figure].unit


#: Below this nothing sounds.
SILENT_DBFS = -120.0


def sounding(level: float) -> float | None:
    return level if math.isfinite(level) and level > SILENT_DBFS else None


def gr_aims(*settings: str, target: float = 3.0) -> tuple[Aim, ...]:
    """Gain reduction at most, and its mean while active."""
    return (
        Aim("gr_max_db", "GR, max", "dB", gr_max, settings, target, 0.1, 48.0),
        Aim("gr_mean_db", "GR, mean while active", "dB", gr_mean, settings, max(target / 2, 1.0), 0.1, 48.0),
    )


def peak_aim(*settings: str, target: float = 6.0) -> Aim:
    return Aim("peaks_down_db", "Peaks down by", "dB", peaks_down, settings, target, 0.1, 36.0)


def louder_aim(*settings: str, target: float = 0.0) -> Aim:
    return Aim("louder_lu", "Loudness change", "LU", louder, settings, target, -36.0, 36.0)


def level_aims(*settings: str, loudness: float = -18.0, peak: float = -6.0) -> tuple[Aim, ...]:
    """How loud it leaves, and how high."""
    return (
        Aim("loudness_lufs", *named("integrated_lufs"), loudness_after, settings, loudness, -60.0, 0.0),
        Aim("true_peak_dbtp", *named("true_peak_dbtp"), true_peak_after, settings, peak, -60.0, 12.0),
    )


def leaving_aims(*settings: str) -> tuple[LevelAim, ...]:
    """Of a strip or a lane as it leaves."""
    return (
        LevelAim("loudness_lufs", *named("integrated_lufs"), lambda f: f.integrated_lufs, settings, -18.0, -60.0, 0.0),
        LevelAim("true_peak_dbtp", *named("true_peak_dbtp"), lambda f: sounding(f.true_peak_dbtp), settings, -6.0, -60.0, 12.0),
    )


STRIP_AIMS = leaving_aims("level_db", "trim_db")
LANE_AIMS = leaving_aims("level_db")
