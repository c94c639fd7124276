"""Routes that ask what a scope did to a passage: the ledger and the pictures, lanes, slots, another order, a whole strip."""

from typing import Literal

import numpy as np
from fastapi import APIRouter, HTTPException, Request
from pydantic import BaseModel, Field

from saltanvil.engine.audition import Scope
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.engine.time import session_frames
from saltanvil.measure.spectrum import moving_hop
from saltanvil.session.address import PART_DESCRIPTORS
from saltanvil.session.apply import AnyEdit
from saltanvil.session.settings import resolve
from saltanvil.session.slots import SlotOwner
from saltanvil.studies.match.match import louder_by_db, make_up_level_db
from saltanvil.studies.match.slots import SlotLoudness, slot_loudness
from saltanvil.studies.scope.bands import Bands, bands_of
from saltanvil.studies.scope.passage import binned, columns_of_bins, window_frames, windows
from saltanvil.studies.scope.pictures import Spectrum, rounded, spectrum_of
from saltanvil.studies.scope.report import ScopeReport, scope_report
from saltanvil.web.asking import PassageQuestion, SpanQuestion, TabQuestion, scope_of, study_of
from saltanvil.web.services import Number, Served, Services, Ticket, answered

router = APIRouter(prefix="/api/sessions/{session_id}/studies", tags=["studies"])


class ScopeQuestion(PassageQuestion):
    """columns: width of the picture; zoom_start, zoom_end: the share of the passage drawn."""

    columns: int = Field(default=800, ge=16, le=4096)
    zoom_start: float = Field(default=0.0, ge=0.0, lt=1.0)
    zoom_end: float = Field(default=1.0, gt=0.0, le=1.0)


class ScopeAnswer(ScopeReport):
    revision: int


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


class OrderQuestion(SpanQuestion):
    """An edit of a strip, such as a step moved to another place or a starting point tried, over a passage."""

    strip_id: str
    edit: AnyEdit


class OrderAnswer(BaseModel):
    """By how much the strip would get louder over the passage."""

    revision: int
    louder_db: float


class SlotsQuestion(SpanQuestion):
    """The slots of a step, a lane or a strip, over a passage."""

    of: SlotOwner
    id: str


class SlotsAnswer(BaseModel):
    """How loud each of them is, and the gain that makes them equally loud for listening."""

    revision: int
    slots: list[SlotLoudness]


class LaneLevelAnswer(BaseModel):
    """The level at which a lane leaves as loud as it enters."""

    revision: int
    level_db: float


class OverviewQuestion(TabQuestion):
    strip_id: str
    columns: int = Field(default=1000, ge=16, le=16384)


class OverviewAnswer(BaseModel):
    """Lowest and highest samples over the whole session, before and after the strip's path."""

    revision: int
    length_s: float
    before_low: list[float]
    before_high: list[float]
    after_low: list[float]
    after_high: list[float]


@router.post("/scope")
async def study_scope(services: Served, request: Request, session_id: Number, question: ScopeQuestion) -> ScopeAnswer | None:
    """Answers null if the same tab has asked again meanwhile."""
    ticket = services.ask(question.tab, "scope", question.number)
    return await answered(services, request, ticket, services.pictures, scope_answer, session_id, question)


def scope_answer(services: Services, ticket: Ticket, session_id: int, question: ScopeQuestion) -> ScopeAnswer:
    study, revision = study_of(services, ticket, session_id, question)
    scope = scope_of(question)
    report = scope_report(study, scope, question.columns, question.zoom_start, question.zoom_end)
    services.matched(question.tab, scope, report.ledger.matched_db)
    return ScopeAnswer(revision=revision, **vars(report))


@router.post("/spectrum")
async def study_spectrum(
    services: Served, request: Request, session_id: Number, question: SpectrumQuestion
) -> SpectrumAnswer | None:
    """Answers null if the same tab has asked again meanwhile."""
    ticket = services.ask(question.tab, "spectrum", question.number)
    return await answered(services, request, ticket, services.pictures, spectrum_answer, session_id, question)


def spectrum_answer(services: Services, ticket: Ticket, session_id: int, question: SpectrumQuestion) -> SpectrumAnswer:
    (study, revision), scope = study_of(services, ticket, session_id, question), scope_of(question)
    rate, step = study.rate, study.step(scope)
    settings = None if step is None else resolve(study.session, step, at_s=study.middle_s)
    parts = (study.renderer(start, stop).compare(scope) for start, stop in study.windows())
    hop = moving_hop(study.stop - study.start) if question.moving else None
    spectrum = spectrum_of(parts, rate, step, settings, question.fraction, hop, study.linear_gain_db(scope))
    return SpectrumAnswer(revision=revision, start_s=study.start / rate, spectrum=spectrum)


@router.post("/bands")
async def study_bands(services: Served, request: Request, session_id: Number, question: PassageQuestion) -> BandsAnswer | None:
    """What each lane of the asked split did. Answers null if the same tab has asked again meanwhile."""
    ticket = services.ask(question.tab, "bands", question.number)
    return await answered(services, request, ticket, services.pictures, bands_answer, session_id, question)


def bands_answer(services: Services, ticket: Ticket, session_id: int, question: PassageQuestion) -> BandsAnswer:
    study, revision = study_of(services, ticket, session_id, question)
    place = study.session.step(question.step_id or "")
    if not place.step.lanes:
        raise HTTPException(422, f"this step is a {place.step.kind} and has no lanes; ask about a split")
    result = bands_of(study.session, place.strip, place.step, study.measured)
    return BandsAnswer(revision=revision, bands=result)


@router.post("/order")
async def study_order(services: Served, request: Request, session_id: Number, question: OrderQuestion) -> OrderAnswer | None:
    """What an edit would do to a strip's loudness; nothing is edited. Answers null if the same tab has asked again meanwhile."""
    ticket = services.ask(question.tab, "order", question.number)
    return await answered(services, request, ticket, services.studies, order_answer, session_id, question)


def order_answer(services: Services, ticket: Ticket, session_id: int, question: OrderQuestion) -> OrderAnswer:
    study, revision = study_of(services, ticket, session_id, question)
    louder_db = louder_by_db(
        study.session, question.strip_id, question.edit, study.media, study.start, study.stop, ticket.superseded,
        services.pool,
    )  # fmt: skip
    return OrderAnswer(revision=revision, louder_db=round(louder_db, 3))


@router.post("/slots")
async def study_slots(services: Served, request: Request, session_id: Number, question: SlotsQuestion) -> SlotsAnswer | None:
    """The loudness of every slot of a scope. Answers null if the same tab has asked again meanwhile."""
    ticket = services.ask(question.tab, "slots", question.number)
    return await answered(services, request, ticket, services.studies, slots_answer, session_id, question)


def slots_answer(services: Services, ticket: Ticket, session_id: int, question: SlotsQuestion) -> SlotsAnswer:
    study, revision = study_of(services, ticket, session_id, question)
    slots = slot_loudness(
        study.session, question.of, question.id, study.media, study.start, study.stop, ticket.superseded, services.pool
    )
    return SlotsAnswer(revision=revision, slots=slots)


@router.post("/give-back")
async def study_attack_restoration(
    services: Served, request: Request, session_id: Number, question: PassageQuestion
) -> LaneLevelAnswer | None:
    """The level of a lane that holds its loudness. Answers null if the same tab has asked again meanwhile."""
    ticket = services.ask(question.tab, "make up", question.number)
    return await answered(services, request, ticket, services.studies, give_back_answer, session_id, question)


def give_back_answer(services: Services, ticket: Ticket, session_id: int, question: PassageQuestion) -> LaneLevelAnswer:
    study, revision = study_of(services, ticket, session_id, question)
    _, _, lane = study.session.lane(question.lane_id or "")
    limits = PART_DESCRIPTORS["lane"]["level_db"]
    level_db = make_up_level_db(study.measured(scope_of(question)), lane.level_db)
    return LaneLevelAnswer(revision=revision, level_db=round(min(max(level_db, limits.minimum or 0.0), limits.maximum or 0.0), 1))


@router.post("/overview")
async def study_overview(
    services: Served, request: Request, session_id: Number, question: OverviewQuestion
) -> OverviewAnswer | None:
    """Answers null if the same tab has asked again meanwhile."""
    ticket = services.ask(question.tab, "overview", question.number)
    return await answered(services, request, ticket, services.studies, overview_answer, session_id, question)


def overview_answer(services: Services, ticket: Ticket, session_id: int, question: OverviewQuestion) -> OverviewAnswer:
    version = services.sessions.version(session_id)
    session, rate = version.session, version.session.rate_hz
    media = services.media.at_rate(rate)
    frames = session_frames(session, media)
    before, after = [], []
    for start, stop in windows(0, frames, window_frames(len(session.strips), rate)):
        renderer = ScopeRenderer(session, media, services.cache, start, stop, ticket.superseded, services.pool)
        result = renderer.compare(Scope(question.strip_id))
        before.append(binned(result.before))
        after.append(binned(result.after))
    entering, leaving = (columns_of_bins(np.concatenate(bins, axis=1), question.columns) for bins in (before, after))
    return OverviewAnswer(
        revision=version.revision,
        length_s=frames / rate,
        before_low=rounded(entering[0], 4),
        before_high=rounded(entering[1], 4),
        after_low=rounded(leaving[0], 4),
        after_high=rounded(leaving[1], 4),
    )
