"""Routes of the blind comparison: it runs here, and the page is told what stood behind the letters when it is over."""

from typing import Annotated

from fastapi import APIRouter, HTTPException, Query, Request
from pydantic import BaseModel, Field

from saltanvil.engine.time import session_frames
from saltanvil.session.document.base import NotFound
from saltanvil.session.wording import scope_name
from saltanvil.studies.blind import BlindResult, Comparison, csv_of, label_of, soundings
from saltanvil.web.comparing import Blind, BlindQuestion, BlindView
from saltanvil.web.services import Number, Served, Services, Ticket, answered
from saltanvil.web.table import CsvResponse

router = APIRouter(prefix="/api/sessions/{session_id}/blind", tags=["blind comparison"])

Tab = Annotated[str, Query(min_length=1, max_length=64)]


class BlindAnswer(BaseModel):
    tab: str = Field(min_length=1, max_length=64)
    letter: str = Field(max_length=2)


@router.post("")
async def start_blind(services: Served, request: Request, session_id: Number, question: BlindQuestion) -> BlindView | None:
    """Measure the candidates and begin. Answers null if the same tab has asked again meanwhile."""
    ticket = services.ask(question.tab, "blind")
    return await answered(services, request, ticket, services.studies, started, session_id, question)


def started(services: Services, ticket: Ticket, session_id: int, question: BlindQuestion) -> BlindView:
    session = services.sessions.version(session_id).session
    media = services.media.at_rate(session.rate_hz)
    labels = [label_of(session, question.of, question.id, candidate) for candidate in question.candidates]
    if len(set(labels)) != len(labels):
        raise HTTPException(422, "two candidates are the same; choose others")
    comparison = Comparison(question.mode, len(labels), question.rounds)
    start = round(question.start_s * session.rate_hz)
    stop = min(round(question.end_s * session.rate_hz), session_frames(session, media))
    if stop - start < session.rate_hz // 50:
        raise HTTPException(422, "the passage is shorter than 20 ms or lies behind the end; choose a longer one")
    candidates = soundings(
        session, question.of, question.id, question.candidates, media, start, stop, ticket.superseded, services.pool
    )
    blind = Blind(session_id, comparison, candidates, question, scope_name(session, question.of, question.id), labels)
    services.replacements.start(question.tab, blind)
    services.replace_sound(question.tab, blind)
    return blind.view()


def under_way(services: Services, tab: str, session_id: int) -> Blind:
    blind = services.replacements.of(tab, session_id)
    if not isinstance(blind, Blind):
        raise NotFound("no blind comparison is under way here; start one")
    return blind


@router.post("/answer")
def answer_blind(services: Served, session_id: Number, question: BlindAnswer) -> BlindView:
    """The answer of a round. With the last one comes the result."""
    blind = under_way(services, question.tab, session_id)
    blind.comparison.answer(question.letter)
    if not blind.comparison.done:
        services.replace_sound(question.tab, blind)  # the next round begins with its first letter
        return blind.view()
    return ended(services, question.tab, blind)


@router.delete("")
def end_blind(services: Served, session_id: Number, tab: Tab) -> BlindView:
    """Break off; what was answered so far is kept."""
    return ended(services, tab, under_way(services, tab, session_id))


def ended(services: Services, tab: str, blind: Blind) -> BlindView:
    result = blind.result()
    if result.rounds:
        result = services.comparisons.add(blind.session_id, result)
    services.replacements.end(tab)
    services.replace_sound(tab, None)
    return blind.view(result)


class BlindResults(BaseModel):
    """What was compared in a session, the newest first. set_aside: in words, what cannot be read any more."""

    results: list[BlindResult]
    set_aside: list[str]


@router.get("")
def blind_results(services: Served, session_id: Number) -> BlindResults:
    services.sessions.version(session_id)
    results, set_aside = services.comparisons.listed(session_id)
    return BlindResults(results=results, set_aside=set_aside)


@router.get("/csv", response_class=CsvResponse)
def blind_csv(services: Served, session_id: Number) -> str:
    """The same as a table."""
    services.sessions.version(session_id)
    return csv_of(services.comparisons.listed(session_id)[0])
