"""Routes of the contrast: sections against loudness, for one scope or several."""

from dataclasses import replace
from typing import Annotated

from fastapi import APIRouter, HTTPException, Request
from pydantic import BaseModel, Field

from saltanvil.engine.audition import Scope
from saltanvil.engine.time import session_frames
from saltanvil.session.document.base import Id
from saltanvil.session.document.session import Session
from saltanvil.session.wording import scope_name
from saltanvil.studies.contrast import Contrast, contrast_of, csv_of
from saltanvil.web.services import Number, Served, Services, Ticket, answered
from saltanvil.web.table import CsvResponse

router = APIRouter(prefix="/api/sessions/{session_id}/studies/contrast", tags=["studies"])

MAX_SCOPES = 32


class ContrastScope(BaseModel):
    strip_id: Id
    step_id: Id | None = None
    lane_id: Id | None = None


class ContrastQuestion(BaseModel):
    """A newer question of the same tab cancels an older one. Lines are drawn for the first scope only."""

    tab: str = Field(min_length=1, max_length=64)
    number: Annotated[int | None, Field(ge=0, le=1 << 53)] = None
    scopes: list[ContrastScope] = Field(min_length=1, max_length=MAX_SCOPES)


class ContrastRow(BaseModel):
    """One scope with its name."""

    scope: ContrastScope
    name: str
    contrast: Contrast


class ContrastAnswer(BaseModel):
    revision: int
    length_s: float
    wish_lu: float
    rows: list[ContrastRow]


@router.post("")
async def study_contrast(
    services: Served, request: Request, session_id: Number, question: ContrastQuestion
) -> ContrastAnswer | None:
    """Loudness of every section before and after each scope. Answers null if the same tab has asked again meanwhile."""
    ticket = services.ask(question.tab, "contrast", question.number)
    return await answered(services, request, ticket, services.studies, contrast_answer, session_id, question)


@router.post("/csv", response_class=CsvResponse)
async def contrast_csv(services: Served, request: Request, session_id: Number, question: ContrastQuestion) -> str:
    """The same as a table."""
    answer = await study_contrast(services, request, session_id, question)
    if answer is None:
        raise HTTPException(409, "the same tab has asked again meanwhile")
    return csv_of([(row.name, row.contrast) for row in answer.rows])


def contrast_answer(services: Services, ticket: Ticket, session_id: int, question: ContrastQuestion) -> ContrastAnswer:
    version = services.sessions.version(session_id)
    session, media = version.session, services.media.at_rate(version.session.rate_hz)
    scopes = [Scope(scope.strip_id, scope.step_id, scope.lane_id) for scope in question.scopes]
    contrasts = contrast_of(session, media, scopes, ticket.progress, ticket.superseded, services.pool, services.contrasts)
    rows = [
        ContrastRow(
            scope=scope,
            name=name_of(session, scope),
            contrast=replace(contrast, times_s=[], before_lufs=[], after_lufs=[]) if index else contrast,
        )
        for index, (scope, contrast) in enumerate(zip(question.scopes, contrasts, strict=True))
    ]
    length_s = session_frames(session, media) / session.rate_hz
    return ContrastAnswer(revision=version.revision, length_s=length_s, wish_lu=session.keep_contrast_lu, rows=rows)


def name_of(session: Session, scope: ContrastScope) -> str:
    """What a scope is called."""
    if scope.step_id is not None:
        return scope_name(session, "step", scope.step_id)
    return scope_name(session, "strip", scope.strip_id) if scope.lane_id is None else scope_name(session, "lane", scope.lane_id)
