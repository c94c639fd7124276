"""What all questions about a passage have in common."""

from typing import Annotated

from pydantic import BaseModel, Field

from saltanvil.engine.audition import Scope
from saltanvil.studies.scope.study import Study
from saltanvil.web.services import Services, Ticket

#: Questions of a tab are numbered by it, as they may arrive in another order than they were asked in.
Asking = Annotated[int | None, Field(ge=0, le=1 << 53)]


class TabQuestion(BaseModel):
    """What a tab asks; a newer question of the same sort takes its place."""

    tab: str = Field(min_length=1, max_length=64)
    number: Asking = None


class SpanQuestion(TabQuestion):
    """Of a passage."""

    start_s: float = Field(ge=0.0, le=1e6)
    end_s: float = Field(ge=0.0, le=1e6)


class PassageQuestion(SpanQuestion):
    """A scope over a passage."""

    strip_id: str
    step_id: str | None = None
    lane_id: str | None = None


def scope_of(passage: PassageQuestion) -> Scope:
    return Scope(passage.strip_id, passage.step_id, passage.lane_id)


def study_of(services: Services, ticket: Ticket, session_id: int, span: SpanQuestion) -> tuple[Study, int]:
    """The study of a question, and the revision it is about. Raises NotFound, PassageRefused."""
    version = services.sessions.version(session_id)
    media = services.media.at_rate(version.session.rate_hz)
    study = Study(version.session, media, services.cache, span.start_s, span.end_s, ticket.superseded, services.pool)
    return study, version.revision
