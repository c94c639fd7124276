"""Routes of the study of resonances."""

from fastapi import APIRouter, Request
from pydantic import BaseModel, Field

from saltanvil.measure.resonances import Resonance
from saltanvil.session.document.base import Id
from saltanvil.web.asking import SpanQuestion, study_of
from saltanvil.web.services import Number, Served, Services, Ticket, answered

router = APIRouter(prefix="/api/sessions/{session_id}/studies", tags=["studies"])


class ResonancesQuestion(SpanQuestion):
    """What the step is to study: what enters it over a passage, or its outside key. passage: its name, for the document."""

    step_id: Id
    passage: str = Field(max_length=100)


class ResonancesAnswer(BaseModel):
    """resonances, studied: for the step's settings; verdict: the findings in a sentence or two."""

    revision: int
    resonances: list[Resonance]
    studied: str
    verdict: str


@router.post("/resonances")
async def study_resonances(
    services: Served, request: Request, session_id: Number, question: ResonancesQuestion
) -> ResonancesAnswer | None:
    """Where the passage sticks out of itself; nothing is edited. Answers null if the same tab has asked again meanwhile."""
    ticket = services.ask(question.tab, "resonances", question.number)
    return await answered(services, request, ticket, services.studies, resonances_answer, session_id, question)


def resonances_answer(services: Services, ticket: Ticket, session_id: int, question: ResonancesQuestion) -> ResonancesAnswer:
    from saltanvil.studies.resonances import step_resonances  # late: a quarter of a second of a start

    study, revision = study_of(services, ticket, session_id, question)
    result = step_resonances(study, question.step_id, question.passage, ticket.progress)
    return ResonancesAnswer(revision=revision, **vars(result))
