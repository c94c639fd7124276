"""Aim: the setting by which a step, a lane or a strip reaches a figure on the passage.

The figure is measured by rendering the passage at a few places of the setting's range, from its present value outwards, until
two of them lie on either side of the target; between those the root is found (Brent's method, by `scipy.optimize.brentq`).
Values are rounded as they are stored before they are rendered, so that what is found is what is measured.
"""

import contextlib
import math
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

from saltanvil.engine.audition import Scope
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.media import Media
from saltanvil.engine.render import render_nodes
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.measure.figures import FiguresMeter
from saltanvil.processors import processor_named
from saltanvil.processors.aims import LANE_AIMS, STRIP_AIMS, Aim, LevelAim
from saltanvil.processors.descriptor import Descriptor
from saltanvil.session.address import Address, Moved, descriptor, value
from saltanvil.session.apply import apply
from saltanvil.session.automation import Automation, automated, scale_of
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import Edit, EditRefused
from saltanvil.session.edits.envelopes import ShiftEnvelope
from saltanvil.session.edits.values import Set
from saltanvil.session.graph import NodeId
from saltanvil.session.linear_gain import linear_gain_db
from saltanvil.session.matches import with_matches
from saltanvil.session.slots import SlotOwner, strip_of
from saltanvil.session.wording import with_unit
from saltanvil.studies.match.match import Matcher, is_matched
from saltanvil.studies.scope.ledger import evidence_of
from saltanvil.studies.scope.passage import measured

#: Places of the range that are tried before it is said that a target lies beyond it.
PLACES = 9
#: Renders of the search between two places at most.
MAX_RENDERS = 40
#: A value of a linear scale is stored to a ten-thousandth of its range or finer, one of a logarithmic scale to four digits.
DECIMALS, DIGITS = 1, 4
#: So little of a range is not divided any further.
NARROWEST = 1e-5


@dataclass(frozen=True)
class AimRequest:
    """of, id: a step, lane or strip; figure: an aim's name; setting: one of its settings, the first if None."""

    of: SlotOwner
    id: str
    figure: str
    target: float
    setting: str | None = None


@dataclass(frozen=True)
class AimResult:
    """reached: whether the target is. setting, value: where, or how near one gets; figure: what is measured there, None where
    nothing can be. renders: of the passage. text: the answer in a sentence, with the reason where it is not reached. by: how far
    the setting's envelope is to be moved as a whole, if it has one; then the value is that at the passage's start."""

    reached: bool
    setting: str
    value: float
    figure: float | None
    renders: int
    text: str
    by: float | None = None


class Found(Exception):
    """A render came near enough."""


def aims_of(session: Session, of: SlotOwner, name: str) -> tuple[Aim | LevelAim, ...]:
    """What can be asked of something. Raises NotFound."""
    if of == "step":
        return processor_named(session.step(name).step.kind).aims
    if of == "lane":
        session.lane(name)
        return LANE_AIMS
    session.strip(name)
    return STRIP_AIMS


def applies(session: Session, of: SlotOwner, name: str, setting: Descriptor) -> bool:
    """Whether a setting has a say as the others stand."""
    return all(str(value(session, Address(of=of, id=name, name=other))) in wanted for other, wanted in setting.when.items())


class Search:
    """The setting that reaches a figure over frames start..stop; nothing is edited. Its renders are counted and kept."""

    def __init__(
        self,
        session: Session,
        question: AimRequest,
        media: Media,
        cache: SegmentCache,
        start: int,
        stop: int,
        cancelled: Callable[[], bool] = lambda: False,
        pool: ThreadPoolExecutor | None = None,
        progress: Callable[[float], None] = lambda share: None,
    ) -> None:
        """Raises NotFound, EditRefused."""
        self.session, self.question, self.media, self.cache = session, question, media, cache
        self.start, self.stop, self.cancelled, self.pool, self.progress = start, stop, cancelled, pool, progress
        aims = aims_of(session, question.of, question.id)
        self.aim = next((aim for aim in aims if aim.name == question.figure), None)
        if self.aim is None:
            there = ", ".join(aim.name for aim in aims) or "nothing"
            raise EditRefused(f"{question.figure!r} cannot be asked of this {question.of}; there is {there}")
        if not self.aim.low <= question.target <= self.aim.high:
            raise EditRefused(f"{self.aim.label} is asked for from {self.aim.low:g} to {self.aim.high:g} {self.aim.unit}")
        name = question.setting or self.aim.settings[0]
        if name not in self.aim.settings:
            raise EditRefused(f"{name!r} does not lead to {self.aim.label}; take one of {', '.join(self.aim.settings)}")
        self.address = Address(of=question.of, id=question.id, name=name)
        self.setting = descriptor(session, self.address)
        if not applies(session, question.of, question.id, self.setting):
            raise EditRefused(f"{self.setting.label} has no say as the other settings stand; choose another setting")
        assert self.setting.minimum is not None and self.setting.maximum is not None
        self.low, self.high = self.setting.minimum, self.setting.maximum
        self.scale = scale_of(session, self.address)
        #: The course of a setting that moves over time: the envelope is moved as a whole, and values are those at the start.
        self.course = Automation(session).course(self.address) if self.enveloped() else None
        if self.course is not None:
            self.begin = self.course.value(start / session.rate_hz)
            _, values = self.course.line()
            self.low = self.scale.moved(self.begin, self.scale.distance(float(values.min()), self.scale.low))
            self.high = self.scale.moved(self.begin, self.scale.distance(float(values.max()), self.scale.high))
        seconds = (stop - start) / session.rate_hz
        counted = isinstance(self.aim, Aim) and self.aim.counted
        self.tolerance = 0.5 / seconds + 1e-6 if counted else self.aim.tolerance
        self._matcher = Matcher(media, pool)
        #: What was measured, by value; and the values tried first, by their places.
        self.seen: dict[float, float | None] = {}
        self.tried: dict[float, float] = {}

    # ---- places of the range --------------------------------------------------------------------------------------------

    def at(self, place: float) -> float:
        """The value at a place from 0 to 1 of the range, as it is stored."""
        if self.setting.scale == "log":
            value = self.low * (self.high / self.low) ** place
            return self.rounded(value, max(DIGITS - 1 - math.floor(math.log10(abs(value))), 0))
        width = self.high - self.low
        return self.rounded(self.low + place * width, DECIMALS + max(0, math.ceil(2.0 - math.log10(width))))

    def rounded(self, value: float, decimals: int) -> float:
        return float(min(max(round(value, decimals), self.low), self.high))

    def place(self, value: float) -> float:
        if self.setting.scale == "log":
            return math.log(value / self.low) / math.log(self.high / self.low)
        return (value - self.low) / (self.high - self.low)

    # ---- renders -----------------------------------------------------------------------------------------------------------

    def now(self) -> float | None:
        """What the figure is as the session stands; None where nothing can be measured."""
        return self.rendered(self.session)

    def figure(self, at: float) -> float | None:
        """What is measured with the setting at a value."""
        if at not in self.seen:
            self.seen[at] = self.rendered(self.version(at))
            self.progress(min(len(self.seen) / (PLACES + 6), 0.98))
        return self.seen[at]

    def version(self, at: float) -> Session:
        """The session with the setting there, and what is held of the step measured anew."""
        edit: Edit = Set(values=[Moved(**self.address.model_dump(), value=at)])
        if self.course is not None:
            edit = ShiftEnvelope(**self.address.model_dump(), by=self.scale.distance(self.begin, at))
        changed = apply(self.session, edit)
        if self.question.of != "step" or not is_matched(changed.step(self.question.id).step):
            return changed
        for result in self._matcher.matches(changed):
            if result.step.id == self.question.id and not result.current:
                return with_matches(changed, {result.step.id: self._matcher.measure(changed, result, self.cancelled)})
        return changed

    def rendered(self, session: Session) -> float | None:
        question, aim = self.question, self.aim
        if question.of == "strip":
            return self.leaving(session, aim)
        strip_id = strip_of(session, question.of, question.id)
        scope = Scope(strip_id, **{f"{question.of}_id": question.id})

        def render(start: int, stop: int) -> ScopeRenderer:
            return ScopeRenderer(session, self.media, self.cache, start, stop, self.cancelled, self.pool)

        gain_db = linear_gain_db(session, strip_id, scope.step_id, scope.lane_id)
        whole = measured(render, scope, self.start, self.stop, gain_db)
        if isinstance(aim, LevelAim):
            return aim.measure(whole.figures_after)
        assert aim is not None
        seen = evidence_of(whole, session.rate_hz)
        return None if seen.figures_before.sample_peak_dbfs <= -120.0 else aim.measure(seen)

    def leaving(self, session: Session, aim: Aim | LevelAim | None) -> float | None:
        """The figure of what leaves the strip, behind its level."""
        assert isinstance(aim, LevelAim)
        meter: FiguresMeter | None = None
        node = NodeId("out", self.question.id)
        for (block,) in render_nodes(session, self.media, [node], self.start, self.stop, self.cancelled, self.pool):
            meter = meter or FiguresMeter(len(block), session.rate_hz)
            meter.add(block)
        return None if meter is None else aim.measure(meter.figures())

    # ---- the search --------------------------------------------------------------------------------------------------------

    def run(self) -> AimResult:
        """Raises Cancelled."""
        from scipy.optimize import brentq  # late: a third of a second of a start

        target = self.question.target
        near = self.nearby()
        if near is not None:
            return near
        self.tried = {self.place(at): at for at in self.seen}
        known = sorted((self.place(at), figure) for at, figure in self.seen.items() if figure is not None)
        if not known:
            return self.refused(None, "Nothing of it can be measured over this passage; choose another one.")
        now = self.place(self.present())
        pairs = [
            (one, other) for one, other in zip(known, known[1:], strict=False) if (one[1] - target) * (other[1] - target) < 0.0
        ]
        if not pairs:
            return self.beyond()
        (low, _), (high, _) = min(pairs, key=lambda pair: abs((pair[0][0] + pair[1][0]) / 2.0 - now))
        with contextlib.suppress(Found):
            brentq(self.off, low, high, xtol=NARROWEST, maxiter=MAX_RENDERS, disp=False)
        best = self.best()
        figure = self.seen[best]
        if figure is not None and abs(figure - target) <= self.tolerance:
            return self.reached(best)
        return self.refused(
            best,
            f"Between two values of {self.setting.label} that lie next to each other it jumps over "
            f"{self.said(target)}; the nearest is {self.said(figure)} at {self.shown(best)}.",
        )

    def nearby(self) -> AimResult | None:
        """Try the present value, and then places of the range until two lie on either side of the target."""
        present = self.present()
        places = sorted(np.linspace(0.0, 1.0, PLACES).tolist(), key=lambda place: abs(place - self.place(present)))
        for at in [present, *(self.at(place) for place in places)]:
            figure = self.figure(at)
            if figure is not None and abs(figure - self.question.target) <= self.tolerance:
                return self.reached(at)
            known = [value - self.question.target for value in self.seen.values() if value is not None]
            if known and min(known) < 0.0 < max(known):
                return None
        return None

    def off(self, place: float) -> float:
        """How far a place is from the target. Raises Found where that is near enough."""
        figure = self.figure(self.tried[place] if place in self.tried else self.at(place))
        if figure is None:  # nothing is left to be measured: as far off as a figure can be
            return -math.copysign(1e3, self.question.target) if self.question.target else -1e3
        if abs(figure - self.question.target) <= self.tolerance / 2.0:
            raise Found
        return figure - self.question.target

    def enveloped(self) -> bool:
        """Whether an envelope of the setting's own sounds."""
        envelope = automated(self.session, self.address).envelopes.get(self.address.name)
        return envelope is not None and not envelope.bypass and not Automation(self.session).off(self.address)

    def present(self) -> float:
        if self.course is not None:
            return self.begin
        return float(value(self.session, self.address))  # type: ignore[arg-type]

    def best(self) -> float:
        """The value whose figure is nearest to the target."""
        known = {at: figure for at, figure in self.seen.items() if figure is not None}
        return min(known, key=lambda at: abs(known[at] - self.question.target))

    # ---- in words ----------------------------------------------------------------------------------------------------------

    def said(self, figure: float | None) -> str:
        assert self.aim is not None
        return "nothing" if figure is None else f"{round(figure, 1) + 0.0:.1f} {self.aim.unit}"

    def shown(self, at: float) -> str:
        return with_unit(at, self.setting)

    def reached(self, at: float) -> AimResult:
        figure = self.seen[at]
        assert self.aim is not None
        moved = f"{self.setting.label} {self.shown(self.present())} to {self.shown(at)}"
        if self.course is not None:
            moved = f"the whole envelope of {self.setting.label} moved, at the start {self.shown(self.begin)} to {self.shown(at)}"
        text = (
            f"{self.aim.label} {self.said(figure)}: {moved}, "
            f"found in {len(self.seen)} {'render' if len(self.seen) == 1 else 'renders'}."
        )
        by = None if self.course is None else self.scale.distance(self.begin, at)
        return AimResult(True, self.address.name, at, figure, len(self.seen), text, by)

    def refused(self, at: float | None, why: str) -> AimResult:
        figure = None if at is None else self.seen[at]
        return AimResult(
            False, self.address.name, self.present() if at is None else at, figure, len(self.seen), f"{why} Nothing was changed."
        )

    def beyond(self) -> AimResult:
        """The target lies beyond what the range reaches."""
        assert self.aim is not None
        best = self.best()
        figures = [figure for figure in self.seen.values() if figure is not None]
        others = [
            descriptor(self.session, self.address.model_copy(update={"name": name})).label
            for name in self.aim.settings
            if name != self.address.name
        ]
        hint = f" Try {' or '.join(others)}." if others else ""
        why = (
            f"{self.setting.label} from {self.shown(self.low)} to {self.shown(self.high)} gives {self.aim.label} from "
            f"{self.said(min(figures))} to {self.said(max(figures))}: the nearest is {self.said(self.seen[best])} at "
            f"{self.shown(best)}.{hint}"
        )
        return self.refused(best, why)
