"""Routes that ask: what did this scope do, and what does the strip look like."""

import asyncio
from collections.abc import Callable
from dataclasses import replace
from typing import Annotated, Literal, TypeVar

from fastapi import APIRouter, HTTPException
from pydantic import BaseModel, Field

from saltanvil.engine.audition import Scope
from saltanvil.engine.latency import Latencies
from saltanvil.engine.render import Cancelled
from saltanvil.engine.scope import Compared, ScopeRenderer
from saltanvil.engine.time import session_frames
from saltanvil.processors import processor_named
from saltanvil.processors.descriptor import SettingValue
from saltanvil.processors.evidence import Hint
from saltanvil.session.document import Session, Step, Strip
from saltanvil.session.edits import MoveStep
from saltanvil.session.graph import Graph, NodeId
from saltanvil.session.settings import resolve
from saltanvil.store.sessions import Version
from saltanvil.studies.bands import Bands, bands_of
from saltanvil.studies.ledger import Ledger, ledger_of
from saltanvil.studies.make_up import make_up_level_db
from saltanvil.studies.match import louder_by_db
from saltanvil.studies.pictures import (
    Bite,
    Curve,
    Response,
    Spectrum,
    bite_of,
    columns_of,
    curve_of,
    response_of,
    rounded,
    spectrum_of,
)
from saltanvil.studies.routing import Silences, source_name
from saltanvil.web.services import Number, Served, Services

router = APIRouter(prefix="/api/sessions/{session_id}/studies", tags=["studies"])

MAX_PASSAGE_S = 1800.0
T = TypeVar("T")


#: Questions of a tab are numbered by it, as they may arrive in another order than they were asked in.
Asking = Annotated[int | None, Field(ge=0, le=1 << 53)]


class PassageQuestion(BaseModel):
    """A scope over a passage."""

    tab: str = Field(min_length=1, max_length=64)
    number: Asking = None
    strip_id: str
    step_id: str | None = None
    lane_id: str | None = None
    start_s: float = Field(ge=0.0, le=1e6)
    end_s: float = Field(ge=0.0, le=1e6)


class ScopeQuestion(PassageQuestion):
    """columns: width of the picture; zoom_start, zoom_end: the share of the passage drawn."""

    columns: int = Field(default=800, ge=16, le=4096)
    zoom_start: float = Field(default=0.0, ge=0.0, lt=1.0)
    zoom_end: float = Field(default=1.0, gt=0.0, le=1.0)


class ScopeAnswer(BaseModel):
    """settings: those the step was measured with; latency_ms, strip_latency_ms: of the scope and at its strip's end, as heard."""

    revision: int
    start_s: float
    end_s: float
    ledger: Ledger
    bite: Bite
    bite_start_s: float
    bite_end_s: float
    curve: Curve | None
    response: Response | None
    linear_gain_db: float
    output_ceiling_db: float | None
    settings: dict[str, SettingValue]
    latency_ms: float
    strip_latency_ms: float


class SpectrumQuestion(PassageQuestion):
    """fraction: bands of 1/fraction octave; moving: also one picture after the other over the passage."""

    fraction: Literal[3, 6, 12, 24] = 6
    moving: bool = False


class SpectrumAnswer(BaseModel):
    revision: int
    start_s: float
    spectrum: Spectrum


class BandsAnswer(BaseModel):
    revision: int
    bands: Bands


class OrderQuestion(BaseModel):
    """A step moved to another place on its strip, over a passage."""

    tab: str = Field(min_length=1, max_length=64)
    number: Asking = None
    start_s: float = Field(ge=0.0, le=1e6)
    end_s: float = Field(ge=0.0, le=1e6)
    move: MoveStep


class OrderAnswer(BaseModel):
    """By how much the strip would get louder over the passage."""

    revision: int
    louder_db: float


class AimAnswer(BaseModel):
    """The level at which a lane leaves as loud as it enters."""

    revision: int
    level_db: float


class OverviewQuestion(BaseModel):
    tab: str = Field(min_length=1, max_length=64)
    number: Asking = None
    strip_id: str
    columns: int = Field(default=1000, ge=16, le=4096)


class OverviewAnswer(BaseModel):
    """Lowest and highest samples over the whole session, before and after the strip's path."""

    revision: int
    length_s: float
    before_low: list[float]
    before_high: list[float]
    after_low: list[float]
    after_high: list[float]


async def apart(services: Services, work: Callable[..., T], *given: object) -> T:
    """Off the event loop, at a study's priority."""
    return await asyncio.get_running_loop().run_in_executor(services.studies, work, services, *given)


@router.post("/scope")
async def study_scope(services: Served, session_id: Number, asked: ScopeQuestion) -> ScopeAnswer | None:
    """Answers null if the same tab has asked again meanwhile."""
    return await apart(services, scope_answer, session_id, asked)


class Questioned:
    """A question about a passage of a session: checked, and given up if the same tab asks again."""

    def __init__(self, services: Services, session_id: int, asked: PassageQuestion | OrderQuestion, kind: str) -> None:
        self.services = services
        self.version = services.sessions.version(session_id)
        self.session, self.rate = self.version.session, self.version.session.rate_hz
        self.media = services.media.at_rate(self.rate)
        self.start = round(asked.start_s * self.rate)
        self.stop = min(round(asked.end_s * self.rate), session_frames(self.session, self.media))
        if self.stop - self.start < self.rate // 50:
            raise HTTPException(422, "the passage is shorter than 20 ms or lies behind the end; choose a longer one")
        if self.stop - self.start > MAX_PASSAGE_S * self.rate:
            raise HTTPException(422, "the passage is longer than half an hour; choose a shorter one")
        self._asked = services.ask(asked.tab, kind, asked.number)

    def renderer(self, session: Session | None = None) -> ScopeRenderer:
        services = self.services
        return ScopeRenderer(
            session or self.session, self.media, services.cache, self.start, self.stop, self._asked.superseded, services.pool
        )


def compare(
    services: Services, session_id: int, asked: PassageQuestion, kind: str
) -> tuple[Version, Compared, Step | None, Scope, int, int] | None:
    """Before and after of the asked scope; None if the tab has asked a question of this kind again meanwhile."""
    question = Questioned(services, session_id, asked, kind)
    scope = Scope(asked.strip_id, asked.step_id, asked.lane_id)
    try:
        found = question.renderer().compare(scope)
    except Cancelled:
        return None
    step = question.session.step(scope.step_id).step if scope.step_id is not None else None
    return question.version, found, step, scope, question.start, question.stop


def scope_answer(services: Services, session_id: int, asked: ScopeQuestion) -> ScopeAnswer | None:
    compared = compare(services, session_id, asked, "scope")
    if compared is None:
        return None
    version, found, step, scope, start, stop = compared
    rate = version.session.rate_hz
    key = step.key if step is not None else None
    session = version.session
    strip = session.strip(scope.strip_id)
    silent = Silences(session).of(strip)
    ledger = ledger_of(found, session, step, None if key is None else source_name(session, key), silent)
    if step is None and scope.lane_id is None and ledger.after.sample_peak_dbfs <= -120.0 < ledger.before.sample_peak_dbfs:
        hint = silenced_by(services, session_id, asked, strip)
        ledger = replace(ledger, hints=[*ledger.hints, *([hint] if hint is not None else [])])
    settings = resolve(session, step) if step is not None else None
    linear_gain_db, ceiling_db = 0.0, None
    if step is not None and settings is not None:
        kind = processor_named(step.kind)
        linear_gain_db = 0.0 if step.bypass else kind.linear_gain_db(settings)
        ceiling_db = kind.output_ceiling_db(settings)
    delays = Latencies(Graph(session))
    length = stop - start
    first = min(int(asked.zoom_start * length), length - 64)
    last = max(round(asked.zoom_end * length), first + 64)
    services.matched(asked.tab, scope, ledger.matched_db)
    return ScopeAnswer(
        revision=version.revision,
        start_s=start / rate,
        end_s=stop / rate,
        ledger=ledger,
        bite=bite_of(found, asked.columns, first, last, linear_gain_db),
        linear_gain_db=linear_gain_db,
        output_ceiling_db=ceiling_db,
        settings={} if settings is None else settings.model_dump(mode="json"),
        bite_start_s=(start + first) / rate,
        bite_end_s=(start + last) / rate,
        response=response_of(step, settings, rate) if step is not None and settings is not None else None,
        curve=curve_of(step, settings, found.detector_db) if step is not None and settings is not None else None,
        latency_ms=delays.scope(scope.strip_id, scope.step_id, scope.lane_id) * 1000 / rate,
        strip_latency_ms=delays.latency_frames[NodeId("end", strip.id)] * 1000 / rate,
    )


def silenced_by(services: Services, session_id: int, asked: PassageQuestion, strip: Strip) -> Hint | None:
    """The first step of a strip's path that lets nothing out, and what it says of itself."""
    for step in strip.path.steps:
        question = asked.model_copy(update={"step_id": step.id, "number": None})
        compared = compare(services, session_id, question, "silence")
        if compared is None:
            return None
        version, found, *_ = compared
        own = ledger_of(found, version.session, step, None if step.key is None else source_name(version.session, step.key))
        if own.after.sample_peak_dbfs <= -120.0:
            label = processor_named(step.kind).label.lower()
            why = next((hint.text for hint in own.hints), "")
            return Hint("silenced", f"Nothing leaves the {label}. {why}".strip(), None)
    return None


@router.post("/spectrum")
async def study_spectrum(services: Served, session_id: Number, asked: SpectrumQuestion) -> SpectrumAnswer | None:
    """Answers null if the same tab has asked again meanwhile."""
    return await apart(services, spectrum_answer, session_id, asked)


def spectrum_answer(services: Services, session_id: int, asked: SpectrumQuestion) -> SpectrumAnswer | None:
    compared = compare(services, session_id, asked, "spectrum")
    if compared is None:
        return None
    version, found, step, _, start, _ = compared
    rate = version.session.rate_hz
    settings = None if step is None else resolve(version.session, step)
    spectrum = spectrum_of(found, rate, step, settings, asked.fraction, asked.moving)
    return SpectrumAnswer(revision=version.revision, start_s=start / rate, spectrum=spectrum)


@router.post("/bands")
async def study_bands(services: Served, session_id: Number, asked: PassageQuestion) -> BandsAnswer | None:
    """What each lane of the asked split did. Answers null if the same tab has asked again meanwhile."""
    return await apart(services, bands_answer, session_id, asked)


def bands_answer(services: Services, session_id: int, asked: PassageQuestion) -> BandsAnswer | None:
    question = Questioned(services, session_id, asked, "bands")
    place = question.session.step(asked.step_id or "")
    if not place.step.lanes:
        raise HTTPException(422, f"this step is a {place.step.kind} and has no lanes; ask about a split")
    try:
        found = bands_of(question.session, place.strip, place.step, question.renderer)
    except Cancelled:
        return None
    return BandsAnswer(revision=question.version.revision, bands=found)


@router.post("/order")
async def study_order(services: Served, session_id: Number, asked: OrderQuestion) -> OrderAnswer | None:
    """What another order of steps does to a strip's loudness. Answers null if the same tab has asked again meanwhile."""
    return await apart(services, order_answer, session_id, asked)


def order_answer(services: Services, session_id: int, asked: OrderQuestion) -> OrderAnswer | None:
    question = Questioned(services, session_id, asked, "order")
    try:
        louder_db = louder_by_db(question.session, asked.move.strip_id, asked.move, question.media, question.renderer)
    except Cancelled:
        return None
    return OrderAnswer(revision=question.version.revision, louder_db=round(louder_db, 3))


@router.post("/give-back")
async def study_give_back(services: Served, session_id: Number, asked: PassageQuestion) -> AimAnswer | None:
    """The aim of equal loudness for a lane. Answers null if the same tab has asked again meanwhile."""
    return await apart(services, give_back_answer, session_id, asked)


def give_back_answer(services: Services, session_id: int, asked: PassageQuestion) -> AimAnswer | None:
    compared = compare(services, session_id, asked, "give back")
    if compared is None:
        return None
    version, found, *_ = compared
    _, _, lane = version.session.lane(asked.lane_id or "")
    level_db = make_up_level_db(found, lane.level_db, version.session.rate_hz)
    return AimAnswer(revision=version.revision, level_db=round(min(max(level_db, -90.0), 24.0), 1))


@router.post("/overview")
async def study_overview(services: Served, session_id: Number, asked: OverviewQuestion) -> OverviewAnswer | None:
    """Answers null if the same tab has asked again meanwhile."""
    return await apart(services, overview_answer, session_id, asked)


def overview_answer(services: Services, session_id: int, asked: OverviewQuestion) -> OverviewAnswer | None:
    version = services.sessions.version(session_id)
    rate = version.session.rate_hz
    frames = session_frames(version.session, services.media.at_rate(rate))
    question = services.ask(asked.tab, "overview", asked.number)
    media = services.media.at_rate(rate)
    renderer = ScopeRenderer(version.session, media, services.cache, 0, frames, question.superseded, services.pool)
    try:
        found = renderer.compare(Scope(asked.strip_id))
    except Cancelled:
        return None
    before, after = columns_of(found.before, asked.columns), columns_of(found.after, asked.columns)
    return OverviewAnswer(
        revision=version.revision,
        length_s=frames / rate,
        before_low=rounded(before[0], 4),
        before_high=rounded(before[1], 4),
        after_low=rounded(after[0], 4),
        after_high=rounded(after[1], 4),
    )
