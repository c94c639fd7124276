"""Routes of aims: the setting that reaches a figure; and how far an answer is that takes long."""

from typing import Annotated, Literal

from fastapi import APIRouter, Query, Request
from pydantic import BaseModel, Field

from saltanvil.session.document.base import Id
from saltanvil.session.document.session import Session
from saltanvil.session.slots import SlotOwner
from saltanvil.studies.aim import AimRequest, AimResult, Search
from saltanvil.studies.starting import StartResult, starting
from saltanvil.web.asking import SpanQuestion, study_of
from saltanvil.web.services import Number, Served, Services, Ticket, answered

router = APIRouter(prefix="/api/sessions/{session_id}/studies", tags=["studies"])


class AimQuestion(SpanQuestion):
    """A figure of a step, a lane or a strip over a passage, and the target; setting: what reaches it, the usual one if None."""

    of: SlotOwner
    id: Id
    figure: str = Field(max_length=64)
    setting: str | None = Field(default=None, max_length=64)
    target: float = Field(ge=-1000.0, le=1000.0)


class AimAnswer(BaseModel):
    revision: int
    answer: AimResult


@router.post("/aim")
async def study_aim(services: Served, request: Request, session_id: Number, question: AimQuestion) -> AimAnswer | None:
    """The setting that reaches a figure; nothing is edited. Answers null if the same tab has asked again meanwhile."""
    ticket = services.ask(question.tab, "aim", question.number)
    return await answered(services, request, ticket, services.studies, aim_answer, session_id, question)


def aim_answer(services: Services, ticket: Ticket, session_id: int, question: AimQuestion) -> AimAnswer:
    search, revision = search_of(services, ticket, session_id, question)
    return AimAnswer(revision=revision, answer=search.run())


class PresentFigure(BaseModel):
    """value: None where nothing can be measured."""

    revision: int
    value: float | None


@router.post("/aim/now")
async def study_present_figure(
    services: Served, request: Request, session_id: Number, question: AimQuestion
) -> PresentFigure | None:
    """What the figure of an aim is before anything is searched. Answers null if the same tab has asked again meanwhile."""
    ticket = services.ask(question.tab, "aim now", question.number)
    return await answered(services, request, ticket, services.studies, present_figure, session_id, question)


def present_figure(services: Services, ticket: Ticket, session_id: int, question: AimQuestion) -> PresentFigure:
    search, revision = search_of(services, ticket, session_id, question)
    return PresentFigure(revision=revision, value=search.now())


def search_of(services: Services, ticket: Ticket, session_id: int, question: AimQuestion) -> tuple[Search, int]:
    """The search of a question, and the revision it is about. Raises NotFound, EditRefused, PassageRefused."""
    study, revision = study_of(services, ticket, session_id, question)
    request = AimRequest(question.of, question.id, question.figure, question.target, question.setting)
    search = Search(
        study.session, request, study.media, services.cache, study.start, study.stop, ticket.superseded, services.pool,
        ticket.progress,
    )  # fmt: skip
    return search, revision


class StartQuestion(SpanQuestion):
    """A starting point of a step, by name."""

    step_id: Id
    start: str = Field(max_length=120)


class StartAnswer(BaseModel):
    revision: int
    answer: StartResult


@router.post("/start")
async def study_start(services: Served, request: Request, session_id: Number, question: StartQuestion) -> StartAnswer | None:
    """The settings of a starting point on a passage; nothing is edited. Answers null if the same tab has asked again."""
    ticket = services.ask(question.tab, "start", question.number)
    return await answered(services, request, ticket, services.studies, start_answer, session_id, question)


def start_answer(services: Services, ticket: Ticket, session_id: int, question: StartQuestion) -> StartAnswer:
    study, revision = study_of(services, ticket, session_id, question)

    def search(session: Session, request: AimRequest) -> Search:
        return Search(
            session, request, study.media, services.cache, study.start, study.stop, ticket.superseded, services.pool,
            ticket.progress,
        )  # fmt: skip

    return StartAnswer(revision=revision, answer=starting(study.session, question.step_id, question.start, search))


class Progress(BaseModel):
    """seconds_left: None until it can be told; rough: it may still change much."""

    fraction: float
    seconds_left: float | None = None
    rough: bool = True


@router.get("/progress")
def study_progress(
    services: Served,
    session_id: Number,
    tab: Annotated[str, Query(max_length=64)],
    kind: Literal["bench", "contrast", "aim", "resonances", "start"],
) -> Progress:
    """How much of an answer that a tab waits for is there; 1 if it waits for none."""
    remaining = services.progress_of.get((tab, kind))
    if remaining is None:
        return Progress(fraction=1.0)
    left = remaining.left()
    return Progress(fraction=remaining.fraction, seconds_left=left.seconds, rough=left.rough)
