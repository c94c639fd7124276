"""Routes of what lies along the session: tempo, sections, and the levels of tracks before their paths."""

from typing import Annotated

from fastapi import APIRouter, Request
from pydantic import BaseModel, Field

from saltanvil.measure.tempo import estimate
from saltanvil.session import sections as section_rules
from saltanvil.session.address import Moved
from saltanvil.session.apply import AnyEdit
from saltanvil.session.document.session import Section
from saltanvil.session.edits.base import MAX_VALUES, Batch, EditRefused
from saltanvil.session.edits.sections import SetSections
from saltanvil.session.edits.values import Set
from saltanvil.studies.importing.parts import proposed
from saltanvil.studies.importing.stage_gain import Level, StripTrim, trims
from saltanvil.web.services import Number, Served, Services, Ticket, answered
from saltanvil.web.table import CsvResponse

router = APIRouter(prefix="/api/sessions/{session_id}", tags=["timeline"])

Tab = Annotated[str, Field(min_length=1, max_length=64)]
MAX_CSV = 1 << 20


class TempoQuestion(BaseModel):
    tab: Tab
    strip_id: str


class TempoAnswer(BaseModel):
    """bpm: None where nothing repeats. certainty: 0 to 1. half, double: the other readings, where a session can have them.
    beat_s: the session time of a first beat."""

    bpm: float | None
    certainty: float
    half_bpm: float | None
    double_bpm: float | None
    beat_s: float


@router.post("/studies/tempo")
async def tempo(services: Served, request: Request, session_id: Number, question: TempoQuestion) -> TempoAnswer | None:
    """The tempo of a track as it was imported."""
    return await answered(
        services, request, services.ask(question.tab, "tempo"), services.studies, tempo_of, session_id, question
    )


def tempo_of(services: Services, ticket: Ticket, session_id: int, question: TempoQuestion) -> TempoAnswer:
    session = services.sessions.version(session_id).session
    strip = session.strip(question.strip_id)
    if strip.media_id is None:
        raise EditRefused(f"{strip.name!r} has no sound of its own; choose a track, best of all drums")
    media = services.media.at_rate(session.rate_hz)
    result = estimate(media.read(strip.media_id, 0, media.frames(strip.media_id)), session.rate_hz)
    if result is None:
        return TempoAnswer(bpm=None, certainty=0.0, half_bpm=None, double_bpm=None, beat_s=0.0)
    half, double = result.bpm / 2.0, result.bpm * 2.0
    return TempoAnswer(
        bpm=result.bpm, certainty=result.certainty, half_bpm=half if half >= 20.0 else None,
        double_bpm=double if double <= 300.0 else None, beat_s=strip.start_s + result.beat_s,
    )  # fmt: skip


class PartsQuestion(BaseModel):
    tab: Tab


class PartsAnswer(BaseModel):
    """sections: what is proposed; edit: what makes them the session's."""

    sections: list[Section]
    edit: AnyEdit


@router.post("/studies/parts")
async def propose(services: Served, request: Request, session_id: Number, question: PartsQuestion) -> PartsAnswer | None:
    """Sections proposed from changes of the main's loudness."""
    return await answered(services, request, services.ask(question.tab, "parts"), services.studies, parts_of, session_id)


def parts_of(services: Services, ticket: Ticket, session_id: int) -> PartsAnswer:
    session = services.sessions.version(session_id).session
    result = proposed(session, services.media.at_rate(session.rate_hz), ticket.superseded)
    return PartsAnswer(sections=result, edit=SetSections(sections=result))


@router.get("/sections.csv", response_class=CsvResponse)
def sections_csv(services: Served, session_id: Number) -> str:
    return section_rules.written(services.sessions.version(session_id).session.sections)


class SectionsFile(BaseModel):
    text: str = Field(max_length=MAX_CSV)


@router.post("/sections/read")
def read_sections(services: Served, session_id: Number, question: SectionsFile) -> PartsAnswer:
    """The sections of a CSV file; `edit` makes them the session's."""
    services.sessions.version(session_id)
    result = section_rules.read(question.text)
    return PartsAnswer(sections=result, edit=SetSections(sections=result))


class StageGainQuestion(BaseModel):
    """level: what is brought to target_db: RMS while active, the largest short-term loudness, or the sample peak."""

    tab: Tab
    strip_ids: list[str] = Field(min_length=1, max_length=500)
    level: Level = "rms"
    target_db: float = Field(default=-18.0, ge=-40.0, le=0.0)


class StageGainAnswer(BaseModel):
    """edit: None if no trim would move."""

    trims: list[StripTrim]
    edit: AnyEdit | None


@router.post("/studies/stage-gain")
async def stage_gain(
    services: Served, request: Request, session_id: Number, question: StageGainQuestion
) -> StageGainAnswer | None:
    return await answered(
        services, request, services.ask(question.tab, "stage gain"), services.studies, stage_gain_of, session_id, question
    )


def stage_gain_of(services: Services, ticket: Ticket, session_id: int, question: StageGainQuestion) -> StageGainAnswer:
    session = services.sessions.version(session_id).session
    media = services.media.at_rate(session.rate_hz)
    result = trims(session, media, question.strip_ids, question.level, question.target_db, ticket.superseded)
    moved = [
        Moved(of="strip", id=trim.strip_id, name="trim_db", value=trim.trim_db)
        for trim in result
        if trim.trim_db != session.strip(trim.strip_id).trim_db
    ]
    edits = [Set(values=moved[at : at + MAX_VALUES]) for at in range(0, len(moved), MAX_VALUES)]
    return StageGainAnswer(trims=result, edit=None if not edits else edits[0] if len(edits) == 1 else Batch(edits=edits))
