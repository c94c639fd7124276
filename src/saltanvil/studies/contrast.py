"""Contrast: how loud each section is before and after a scope, and what the quiet and the loud parts each lost.

A section is measured as if it were cut out by itself: its loudness is integrated over it alone (BS.1770-5), so that it is what
a meter reads of that section of an export.
"""

import csv
import io
import math
import threading
from collections import OrderedDict
from collections.abc import Callable, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from saltanvil.engine.audition import Scope
from saltanvil.engine.cache import fingerprint
from saltanvil.engine.media import Media
from saltanvil.engine.scopes import NO_TICKS, ScopesRender
from saltanvil.engine.time import session_frames
from saltanvil.measure.figures import FIGURES, Figures, FiguresMeter
from saltanvil.measure.loudness import OFFSET_LUFS, SHORT_TERM_HOPS, LoudnessMeter, windowed
from saltanvil.measure.reduction import Reduction, reduction_of
from saltanvil.media.table import guarded
from saltanvil.processors.evidence import Hint
from saltanvil.session.document.session import Section, Session

#: Points of the short-term lines at most, and how close they lie at best, in hops of 10 ms.
MAX_POINTS, POINT_HOPS = 1200, 10
#: Below this a line of loudness has nothing to show.
FLOOR_LUFS = -70.0
#: Contrasts that are remembered.
MAX_KNOWN = 128
#: Less contrast than this is none to speak of, and losing so much of it is a lot (common practice, no source).
FLAT_LU, LOST_LU = 2.0, 3.0

Audio = NDArray[np.float32]


@dataclass(frozen=True)
class SectionContrast:
    """One section. change_lu: loudness after less before. lost_lu: against the section that kept most. Loudness is None where
    it cannot be measured (silence, or shorter than 400 ms)."""

    section_id: str
    name: str
    start_s: float
    end_s: float
    before: Figures
    after: Figures
    change_lu: float | None
    lost_lu: float | None
    reduction: Reduction | None


@dataclass(frozen=True)
class ContrastStep:
    """From one section to the next: by how much it gets louder, in LU."""

    from_id: str
    to_id: str
    before_lu: float | None
    after_lu: float | None


@dataclass(frozen=True)
class Contrast:
    """before_lu, after_lu: from the quietest to the loudest section. times_s: the middles of the windows of 3 s whose
    short-term loudness the lines show; None where it is below -70 LUFS."""

    sections: list[SectionContrast]
    steps: list[ContrastStep]
    before_lu: float | None
    after_lu: float | None
    times_s: list[float]
    before_lufs: list[float | None]
    after_lufs: list[float | None]
    hints: list[Hint]


class KnownContrasts:
    """What was measured, by the fingerprint of all it depends on: it is as good for another tab, and after an undo."""

    def __init__(self) -> None:
        self._known: OrderedDict[str, Contrast] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: str) -> Contrast | None:
        with self._lock:
            if key in self._known:
                self._known.move_to_end(key)
            return self._known.get(key)

    def put(self, key: str, contrast: Contrast) -> None:
        with self._lock:
            self._known[key] = contrast
            while len(self._known) > MAX_KNOWN:
                self._known.popitem(last=False)


class SectionMeter:
    """A section as it is worked through: figures of both sides, and the gain reduction of each tick."""

    def __init__(self, section: Section, rate: int, stop: int) -> None:
        self.section, self.rate = section, rate
        self.start = round(section.start_s * rate)
        self.stop = min(round(section.end_s * rate), stop)
        self._before: FiguresMeter | None = None
        self._after: FiguresMeter | None = None
        #: Per tick, once it is known.
        self.reduction_db: NDArray[np.float32] = NO_TICKS

    def add(self, start: int, before: Audio, after: Audio) -> None:
        """A block of sound that begins at frame `start`; what lies outside the section does not count."""
        first, last = max(self.start - start, 0), min(self.stop - start, before.shape[1])
        if last <= first:
            return
        if self._before is None or self._after is None:
            self._before, self._after = FiguresMeter(len(before), self.rate), FiguresMeter(len(after), self.rate)
        self._before.add(before[:, first:last])
        self._after.add(after[:, first:last])

    def measured(self) -> SectionContrast | None:
        """None for a section behind the end."""
        if self._before is None or self._after is None:
            return None
        before, after = self._before.figures(), self._after.figures()
        ticks, section = self.reduction_db, self.section
        return SectionContrast(
            section.id, section.name, section.start_s, section.end_s, before, after,
            difference(after.integrated_lufs, before.integrated_lufs), None, reduction_of(ticks) if len(ticks) else None,
        )  # fmt: skip


def difference(a: float | None, b: float | None) -> float | None:
    return None if a is None or b is None else a - b


def contrast_of(
    session: Session,
    media: Media,
    scopes: Sequence[Scope],
    progress: Callable[[float], None] = lambda share: None,
    cancelled: Callable[[], bool] = lambda: False,
    pool: Executor | None = None,
    known: "KnownContrasts | None" = None,
) -> list[Contrast]:
    """Scopes over the whole session, in one render. Raises NotFound, Cancelled."""
    frames, known = session_frames(session, media), known or KnownContrasts()
    render = ScopesRender(session, media, scopes, frames)
    keys = [fingerprint(name, session.sections, session.keep_contrast_lu) for name in render.names()]
    contrasts = {index: contrast for index, key in enumerate(keys) if (contrast := known.get(key)) is not None}
    missing = [index for index in range(len(scopes)) if index not in contrasts]
    if not missing:
        return [contrasts[index] for index in range(len(scopes))]
    if contrasts:
        render = ScopesRender(session, media, [scopes[index] for index in missing], frames)
    for index, contrast in zip(missing, _measured(render, len(missing), progress, cancelled, pool), strict=True):
        contrasts[index] = contrast
        known.put(keys[index], contrast)
    return [contrasts[index] for index in range(len(scopes))]


def _measured(
    render: ScopesRender, count: int, progress: Callable[[float], None], cancelled: Callable[[], bool], pool: Executor | None
) -> list[Contrast]:
    session, frames, rate = render.session, render.frames, render.session.rate_hz
    sections = sorted(session.sections, key=lambda section: section.start_s)
    meters = [[SectionMeter(section, rate, frames) for section in sections] for _ in range(count)]
    lines: list[tuple[LoudnessMeter, LoudnessMeter]] = []
    at = 0
    for blocks in render.blocks(cancelled, pool):
        lines = lines or [(LoudnessMeter(rate, len(before)), LoudnessMeter(rate, len(after))) for before, after in blocks]
        for scope, (before, after) in enumerate(blocks):
            lines[scope][0].add(before)
            lines[scope][1].add(after)
            for meter in meters[scope]:
                meter.add(at, before, after)
        at += blocks[0][0].shape[1]
        progress(at / frames)
    for scope, own in enumerate(meters):
        for meter in own:
            meter.reduction_db = render.reduction_db(scope, meter.start, meter.stop)
    return [_contrast(own, line, session.keep_contrast_lu) for own, line in zip(meters, lines, strict=True)]


def _contrast(meters: list[SectionMeter], lines: tuple[LoudnessMeter, LoudnessMeter], wish_lu: float) -> Contrast:
    measured = [result for meter in meters if (result := meter.measured()) is not None]
    step_hops, before, after = short_term(lines)
    sections_measured = with_losses(measured)
    before_lu = spread([one.before.integrated_lufs for one in measured])
    after_lu = spread([one.after.integrated_lufs for one in measured])
    return Contrast(
        sections=sections_measured,
        steps=[step_of(one, other) for one, other in zip(measured, measured[1:], strict=False)],
        before_lu=before_lu,
        after_lu=after_lu,
        times_s=[round((at * step_hops + SHORT_TERM_HOPS / 2) / 100, 3) for at in range(len(before))],
        before_lufs=before,
        after_lufs=after,
        hints=contrast_hints(sections_measured, before_lu, after_lu, wish_lu),
    )


def with_losses(sections: list[SectionContrast]) -> list[SectionContrast]:
    """What each lost against the one that kept most: make-up gain, which raises all of them, does not count."""
    changes = [section.change_lu for section in sections if section.change_lu is not None]
    most = max(changes, default=0.0)
    return [
        SectionContrast(**{**vars(one), "lost_lu": None if one.change_lu is None else most - one.change_lu}) for one in sections
    ]


def step_of(one: SectionContrast, other: SectionContrast) -> ContrastStep:
    return ContrastStep(
        one.section_id,
        other.section_id,
        difference(other.before.integrated_lufs, one.before.integrated_lufs),
        difference(other.after.integrated_lufs, one.after.integrated_lufs),
    )


def spread(lufs: list[float | None]) -> float | None:
    """From the quietest to the loudest; None where fewer than two can be measured."""
    known = [value for value in lufs if value is not None]
    return max(known) - min(known) if len(known) > 1 else None


def short_term(lines: tuple[LoudnessMeter, LoudnessMeter]) -> tuple[int, list[float | None], list[float | None]]:
    """Short-term loudness of both sides, and how many hops its points lie apart."""
    count = max(len(lines[0].energies) - SHORT_TERM_HOPS + 1, 0)
    step = max(POINT_HOPS, -(-count // MAX_POINTS))
    return step, *(line(np.array(meter.energies), step) for meter in lines)  # type: ignore[return-value]


def line(energies: NDArray[np.float64], step: int) -> list[float | None]:
    values = windowed(energies, SHORT_TERM_HOPS)[::step]
    lufs = OFFSET_LUFS + 10.0 * np.log10(np.maximum(values, 1e-30))
    return [round(float(value), 2) if value >= FLOOR_LUFS else None for value in lufs]


def contrast_hints(
    sections: list[SectionContrast], before_lu: float | None, after_lu: float | None, wish_lu: float
) -> list[Hint]:
    """What a mixing engineer would want to be told of the contrast."""
    if before_lu is None or after_lu is None:
        return []
    known = [section for section in sections if section.after.integrated_lufs is not None]
    loudness: Callable[[SectionContrast], float] = lambda section: section.after.integrated_lufs or 0.0  # noqa: E731
    quiet, loud = min(known, key=loudness), max(known, key=loudness)
    what = f"From {quiet.name} to {loud.name} there are {after_lu:.1f} LU"
    hardest = max(known, key=lambda section: section.lost_lu or 0.0)
    why = (
        f" {hardest.name} lost most, {hardest.lost_lu:.1f} LU against the others: look for the step that works hardest there."
        if hardest.lost_lu is not None and hardest.lost_lu >= 0.5
        else ""
    )
    if wish_lu > 0.0 and after_lu < wish_lu:
        came = f"{before_lu:.1f} LU came in." if before_lu >= wish_lu else f"no more than {before_lu:.1f} LU came in."
        return [Hint("contrast wish", f"{what}; you want to keep {wish_lu:g}, and {came}{why}", None)]
    if after_lu < FLAT_LU and before_lu - after_lu >= LOST_LU:
        text = f"{what} left of {before_lu:.1f}: quiet and loud parts end up about equally loud.{why}"
        return [Hint("contrast flat", text, None)]
    return []


def csv_of(rows: list[tuple[str, Contrast]]) -> str:
    """The sections of one scope or several, by name, as a table."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(
        ["scope", "section", "start_s", "end_s"]
        + [f"{side}_{name}" for name in FIGURES for side in ("before", "after")]
        + ["change_lu", "lost_lu", "gr_max_db", "gr_mean_db", "step_before_lu", "step_after_lu"]
    )
    for name, contrast in rows:
        steps = {step.to_id: step for step in contrast.steps}
        for section in contrast.sections:
            step, gr = steps.get(section.section_id), section.reduction
            values = [getattr(side, figure) for figure in FIGURES for side in (section.before, section.after)]
            values += [section.change_lu, section.lost_lu, *((gr.largest_db, gr.mean_db) if gr else (None, None))]
            values += [step.before_lu, step.after_lu] if step else [None, None]
            texts = ["" if value is None or not math.isfinite(value) else f"{value:.2f}" for value in values]
            writer.writerow([guarded(name), guarded(section.name), f"{section.start_s:.3f}", f"{section.end_s:.3f}", *texts])
    return out.getvalue()
