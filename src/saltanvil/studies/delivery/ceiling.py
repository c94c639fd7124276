"""The safe ceiling: the highest ceiling of the last limiter, or else the highest level of the strip, at which no encoder comes
out above the true peak that is wanted; and what each encoder makes of the usual ceilings.

Every trial is rendered as the delivery would be, encoded and decoded. A trial's peaks say how far it is off, so that a few are
enough: ceilings lie on a grid of a twentieth of a decibel. The encoder that came out highest goes first, and where it is above
what is wanted the others need not be tried.
"""

import math
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass
from pathlib import Path as FilePath
from threading import Lock

import numpy as np
from pydantic import BaseModel

from saltanvil.engine.latency import Latencies
from saltanvil.engine.media import Audio, Media
from saltanvil.engine.render import render_nodes, render_strips
from saltanvil.engine.tail import MAX_TAIL_S, quiet_frames, with_tail
from saltanvil.measure.loudness import TruePeakMeter
from saltanvil.media.encode import Writing
from saltanvil.media.formats import FORMATS
from saltanvil.media.recording import Recording, recorded
from saltanvil.media.stream import FileMedia
from saltanvil.session.address import Moved
from saltanvil.session.apply import apply
from saltanvil.session.automation import Automation
from saltanvil.session.document.automation import Automated, Owner
from saltanvil.session.document.path import Path, Step
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.edits.values import Set
from saltanvil.session.graph import Graph, NodeId
from saltanvil.studies.delivery.check import THREADS, interruptible, true_peaks
from saltanvil.studies.match.match import is_matched, with_current_matches

#: Ceilings in use (common practice, no source).
USUAL_DB = (-0.1, -0.3, -0.5, -1.0)
GRID_DB = 0.05
#: A ceiling is looked for down to this, and in so many trials; so many are usual.
LOWEST_DB, MAX_TRIALS, EXPECTED_TRIALS = -12.0, 24, len(USUAL_DB) + 8
#: Peaks of encoders do not follow the ceiling evenly: so far above a safe one others are tried, in places of the grid.
STEPS_UP = (1, 2, 4)
#: What is as good as on the wanted peak; less than this left unused is not worth a sentence.
EXACT_DB, WORTH_SAYING_DB = 1e-3, 0.005


class CeilingRow(BaseModel):
    """One ceiling. master_dbtp: the master's true peak at it; peaks_dbtp: that of each format, by name; of a ceiling that is not
    safe, perhaps not of all."""

    ceiling_db: float
    master_dbtp: float
    peaks_dbtp: dict[str, float]

    @property
    def highest_dbtp(self) -> float:
        return max([self.master_dbtp, *self.peaks_dbtp.values()])


class Ceilings(BaseModel):
    """The answer. by: what was moved; step_id: of the limiter, if it was; value: of its ceiling, or of the strip's level, at the
    safe ceiling; unused_db: by how much the highest peak stays below what is wanted there. rows: all that was tried, the highest
    first."""

    by: str
    step_id: str | None
    safe_db: float | None
    value: float | None
    unused_db: float | None = None
    text: str
    rows: list[CeilingRow]


def last_limiter(session: Session, strip_id: str) -> Step | None:
    """The last limiter at work on a strip's own path whose ceiling stands still; what lies in lanes is not the whole sound."""
    automation = Automation(session)
    for step in reversed(session.strip(strip_id).path.steps):
        if step.kind == "limiter" and not step.bypass:
            return None if "ceiling_db" in automation.moving("step", step.id, step) else step
    return None


def stereo(x: Audio) -> Audio:
    return x if len(x) == 2 else np.concatenate([x, x])


@dataclass
class CeilingSearch:
    """Trials over frames start..stop of a strip. folder: for what is rendered and encoded; it is left empty."""

    session: Session
    strip_id: str
    media: Media
    start: int
    stop: int
    tail: bool
    writings: Sequence[Writing]
    wanted_dbtp: float
    folder: FilePath
    pool: Executor | None = None
    cancelled: Callable[[], bool] = lambda: False
    progress: Callable[[float], None] = lambda share: None

    def __post_init__(self) -> None:
        self.limiter = last_limiter(self.session, self.strip_id)
        self.rows: dict[int, CeilingRow] = {}
        #: How far each format came out above the ceiling last.
        self.highest: dict[str, float] = {}
        self.entering: Recording | None = None
        self._recorded = False
        self.latency_frames = 0
        #: Seconds of sound that were rendered, encoded or decoded in this trial.
        self._worked_s, self._fraction, self._working = 0.0, 0.0, Lock()
        #: Without a limiter the sound is rendered once and turned down.
        self._master: tuple[Recording, float] | None = None

    # ---- trials ----------------------------------------------------------------------------------------------------------

    def row(self, place: int, whole: bool = True) -> CeilingRow:
        """The trial at `place` x GRID_DB; unless it is to be whole, until an encoder is above what is wanted. Raises Cancelled,
        OSError, EditRefused."""
        row = self.rows.get(place)
        if row is not None and (len(row.peaks_dbtp) == len(self.writings) or (not whole and self.over(row))):
            return row
        ceiling = round(place * GRID_DB, 2)
        if self.limiter is not None:
            moved = Moved(of="step", id=self.limiter.id, name="ceiling_db", value=ceiling)
            master, peak = self.rendered(apply(self.session, Set(values=[moved], alone=True)))
            gain_db = 0.0
        else:
            self._master = self._master or self.rendered(self.session)
            master, peak = self._master
            gain_db = ceiling - peak
        row = row or CeilingRow(ceiling_db=ceiling, master_dbtp=peak + gain_db, peaks_dbtp={})
        try:
            waiting = sorted(
                (writing for writing in self.writings if writing.format not in row.peaks_dbtp),
                key=lambda writing: -self.highest.get(writing.format, 0.0),
            )
            count = len(waiting) if whole else THREADS
            while waiting and (whole or not self.over(row)):
                row.peaks_dbtp.update(true_peaks(master, waiting[:count], self.folder, gain_db, self.cancelled, self.advance))
                waiting, count = waiting[count:], len(waiting)
        finally:
            if self.limiter is not None:
                master.discard()
        self.highest = {**self.highest, **{name: peak - ceiling for name, peak in row.peaks_dbtp.items()}}
        self.rows[place] = row
        self._next()
        return row

    def _next(self) -> None:
        with self._working:
            self._worked_s = 0.0
        self.advance(0.0)

    def advance(self, seconds: float) -> None:
        """Some of a trial is done: a render, and each encoder both ways; what enters the limiter is one more trial."""
        with self._working:
            self._worked_s += seconds
            # What enters is recorded from the song's start; a trial is the passage, rendered and through each encoder both ways.
            frames = (1 + 2 * len(self.writings)) * (self.stop - self.start) if self._recorded else self.stop
            trial_s = frames / self.session.rate_hz
            trial = min(self._worked_s / max(trial_s, 1e-9), 1.0)
            done = self._recorded + len(self.rows) + trial
            self._fraction = max(self._fraction, min(done / (1 + EXPECTED_TRIALS), 0.98))
            self.progress(self._fraction)

    def over(self, row: CeilingRow) -> bool:
        return row.highest_dbtp > self.wanted_dbtp + EXACT_DB

    def rendered(self, session: Session) -> tuple[Recording, float]:
        """The strip as it would be delivered, and its true peak."""
        peak = TruePeakMeter(2)

        def heard(blocks: Iterator[Audio]) -> Iterator[Audio]:
            for block in interruptible(blocks, self.cancelled):
                peak.add(block)
                yield block
                self.advance(block.shape[1] / session.rate_hz)

        if self.limiter is not None and self.entering is not None:
            blocks = self.behind(session, self.limiter, self.entering)
        else:
            session = with_current_matches(session, self.media, self.cancelled, self.pool)
            strips = render_strips(
                session, self.media, self.start, self.stop, [self.strip_id], self.cancelled, self.tail, begin=0
            )
            blocks = (outputs[self.strip_id] for outputs in strips)
        recording = recorded(self.folder / "trial", heard(blocks), session.rate_hz, 2)
        return recording, peak.read_dbtp()

    # ---- what enters the limiter is the same in every trial ------------------------------------------------------------------

    def record_entering(self) -> Recording | None:
        """What enters the limiter, if everything behind it depends on nothing else; None otherwise."""
        strip, limiter = self.session.strip(self.strip_id), self.limiter
        if limiter is None:
            return None
        steps = strip.path.steps
        place = next(number for number, step in enumerate(steps) if step.id == limiter.id)
        automation = Automation(self.session)
        parts: list[tuple[Owner, Automated]] = [("strip", strip), *(("step", step) for step in steps[place:])]
        moves = any(part.envelopes or automation.now(of, part.id, part) is not part for of, part in parts)  # type: ignore[attr-defined]
        if moves or any(step.lanes or step.key is not None or is_matched(step) for step in steps[place:]):
            return None
        session = with_current_matches(self.session, self.media, self.cancelled, self.pool)
        node = NodeId("in", strip.id) if place == 0 else NodeId("step", steps[place - 1].id)
        # As late as it is there, so that detectors meet it at the same ticks.
        self.latency_frames = Latencies(Graph(session), listening=False).latency_frames[node]
        last = self.stop + round(MAX_TAIL_S * session.rate_hz) if self.tail else self.stop
        # From the song's start, as a file is made: an encoder's peaks follow the smallest difference.
        rendered = render_nodes(session, self.media, [node], 0, last, self.cancelled, self.pool)
        whole = with_tail(rendered, self.stop, quiet_frames(session)) if self.tail else rendered

        def with_progress() -> Iterator[Audio]:
            for (block,) in whole:
                yield stereo(block)
                self.advance(block.shape[1] / session.rate_hz)

        return recorded(self.folder / "entering", with_progress(), session.rate_hz, 2)

    def behind(self, session: Session, limiter: Step, entering: Recording) -> Iterator[Audio]:
        """The limiter and what follows it, at the strip's level and pan."""
        strip, rate = session.strip(self.strip_id), session.rate_hz
        place = next(number for number, step in enumerate(strip.path.steps) if step.id == limiter.id)
        track = Strip(
            id="sound", name="Sound", kind="track", media_id=0, start_s=self.latency_frames / rate,
            path=Path(steps=strip.path.steps[place:]), level_db=strip.level_db, pan=strip.pan, mute=strip.mute,
        )  # fmt: skip
        main = Strip(id="main", name="Main", kind="main", output=None)
        around = Session(name="Behind", rate_hz=rate, tempo_bpm=session.tempo_bpm, strips=[main, track])
        stop = max(self.stop, entering.frames) if self.tail else self.stop
        nodes = render_nodes(
            around, FileMedia(entering), [NodeId("out", track.id)], self.start + self.latency_frames, stop + self.latency_frames,
            self.cancelled,
            begin=0,
        )  # fmt: skip
        return (block for (block,) in nodes)

    def safe(self, place: int) -> bool:
        return not self.over(self.row(place, whole=False))

    # ---- the search ------------------------------------------------------------------------------------------------------

    def run(self) -> Ceilings:
        """Raises Cancelled, OSError, EditRefused."""
        try:
            self.entering, self._recorded = self.record_entering(), True
            self._next()
            for ceiling in USUAL_DB:
                self.row(round(ceiling / GRID_DB))
            return self.answer(self.found())
        finally:
            for recording in (self.entering, self._master and self._master[0]):
                if recording is not None:
                    recording.discard()

    def found(self) -> int | None:
        """The highest safe place; None if there is none in reach."""
        lowest = round(LOWEST_DB / GRID_DB)
        place = max(lowest, min(0, self.nearer(round(USUAL_DB[-1] / GRID_DB))))
        for _ in range(MAX_TRIALS):
            if not self.safe(place):
                if place <= lowest:
                    return None
                place = max(lowest, min(place - 1, self.nearer(place)))
                continue
            higher = (max(self.nearer(place), place + 1), *(place + step for step in STEPS_UP))
            better = next((other for other in higher if other <= 0 and self.safe(other)), None)
            if better is None:
                return place
            place = better
        return None

    def nearer(self, place: int) -> int:
        """Where the highest peak would be the wanted one, if it moved as the ceiling does."""
        off = self.row(place, whole=False).highest_dbtp - self.wanted_dbtp
        return place - math.ceil(off / GRID_DB - EXACT_DB)

    def answer(self, place: int | None) -> Ceilings:
        rows = sorted(self.rows.values(), key=lambda row: -row.ceiling_db)
        strip = self.session.strip(self.strip_id)
        by = "limiter" if self.limiter is not None else "level"
        step_id = None if self.limiter is None else self.limiter.id
        what = "the limiter's ceiling" if self.limiter is not None else f"the level of {strip.name}"
        if place is None:
            text = (
                f"With {what} lowered to a peak of {LOWEST_DB:g} dB some encoder still comes out above "
                f"{self.wanted_dbtp:g} dBTP. Something behind the limiter raises the level: look at what comes after it."
            )
            return Ceilings(by=by, step_id=step_id, safe_db=None, value=None, text=text, rows=rows)
        row = self.rows[place]
        worst = max(row.peaks_dbtp, key=lambda name: row.peaks_dbtp[name], default="")
        value = row.ceiling_db
        if self.limiter is None:
            assert self._master is not None
            value = math.floor(100.0 * (strip.level_db + row.ceiling_db - self._master[1])) / 100.0
        how = f"a ceiling of {row.ceiling_db:g} dB" if self.limiter is not None else f"{strip.name} at {value:g} dB"
        unused = max(self.wanted_dbtp - row.highest_dbtp, 0.0)
        loudest = f"; the highest is {FORMATS[worst].label} with {row.peaks_dbtp[worst]:.2f} dBTP" if worst else ""
        left = f" {unused:.2f} dB are left unused" if unused >= WORTH_SAYING_DB else ""
        if left and (beyond := self.rows.get(place + 1)) is not None:
            left += f": at {beyond.ceiling_db:g} dB it would be {beyond.highest_dbtp:.2f} dBTP"
        left += "." if left else ""
        return Ceilings(
            by=by, step_id=step_id, safe_db=row.ceiling_db, value=value, unused_db=unused, rows=rows,
            text=f"With {how} no format comes out above {self.wanted_dbtp:g} dBTP{loudest}.{left}",
        )  # fmt: skip
