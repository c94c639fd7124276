"""What each lane of a split did to the passage: levels before and after, detector level, gain reduction."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from saltanvil.dsp.kernel import TICK_FRAMES
from saltanvil.dsp.units import SILENCE_DB
from saltanvil.engine.audition import Scope
from saltanvil.measure.spectrum import centres_hz
from saltanvil.processors import processor_named
from saltanvil.processors.split import band_gains_db
from saltanvil.session.document.path import Lane, Step
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.settings import resolve_split
from saltanvil.studies.scope.passage import MeasuredPassage
from saltanvil.studies.scope.pictures import rounded


@dataclass(frozen=True)
class LaneFigures:
    """step_id: the lane's main step, whose settings stand for the lane. heard_db: the 10th, 50th and 90th percentile
    and the largest of the level at its detector (or of the peaks that enter the lane), in dBFS. loudness_moved_lu:
    what the lane as a whole did to its loudness."""

    lane_id: str
    step_id: str | None
    heard_db: list[float]
    before_peak_dbfs: float
    after_peak_dbfs: float
    before_rms_dbfs: float
    after_rms_dbfs: float
    largest_db: float
    mean_db: float
    loudness_moved_lu: float
    gain_db: list[float]


@dataclass(frozen=True)
class Bands:
    """gain_db of each lane is its band's magnitude at the frequencies; empty unless the split is by bands."""

    frequency_hz: list[float]
    lanes: list[LaneFigures]


def main_step(lane: Lane) -> Step | None:
    """The step that stands for a lane: its first with a detector that works, else its first."""
    steps = [step for step in lane.path.steps if step.kind != "split"]
    listening = [step for step in steps if processor_named(step.kind).listens and not step.bypassed]
    return next(iter(listening or steps), None)


def bands_of(session: Session, strip: Strip, split: Step, measure: Callable[[Scope], MeasuredPassage]) -> Bands:
    """measure: a scope over the passage."""
    rate = session.rate_hz
    frequencies = centres_hz(rate)
    settings = resolve_split(session, split)
    gains = band_gains_db(settings, frequencies, rate) if settings.by == "bands" else None
    lanes = []
    for index, lane in enumerate(split.lanes):
        result = measure(Scope(strip.id, None, lane.id))
        step = main_step(lane)
        detector = result.detector_db
        reduction = result.reduction_db
        if step is not None:
            inside = measure(Scope(strip.id, step.id))
            detector, reduction = inside.detector_db, inside.reduction_db
        if not len(detector):
            detector = tick_peaks_db(result.result.before)
        before, after = result.figures_before, result.figures_after
        working = reduction[np.abs(reduction) >= 0.1]
        lanes.append(
            LaneFigures(
                lane_id=lane.id,
                step_id=None if step is None else step.id,
                heard_db=rounded(np.append(np.percentile(detector, [10, 50, 90]), detector.max()), 1),
                before_peak_dbfs=before.sample_peak_dbfs,
                after_peak_dbfs=after.sample_peak_dbfs,
                before_rms_dbfs=before.rms_dbfs,
                after_rms_dbfs=after.rms_dbfs,
                largest_db=float(reduction[np.abs(reduction).argmax()]) if len(reduction) else 0.0,
                mean_db=float(working.mean()) if len(working) else 0.0,
                loudness_moved_lu=result.louder_db,
                gain_db=[] if gains is None else rounded(gains[index], 1),
            )
        )
    return Bands(rounded(frequencies), lanes)


def tick_peaks_db(x: NDArray[np.float32]) -> NDArray[np.float32]:
    """The peak of each tick, in dBFS."""
    ticks = x.shape[1] // TICK_FRAMES
    peaks = np.abs(x[:, : ticks * TICK_FRAMES]).reshape(len(x), ticks, TICK_FRAMES).max(axis=(0, 2))
    return np.asarray(20.0 * np.log10(np.maximum(peaks, 10.0 ** (SILENCE_DB / 20.0))), dtype=np.float32)
