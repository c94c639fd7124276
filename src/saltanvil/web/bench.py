"""Routes of the bench: test signals through a scope of the session, with progress."""

from typing import Annotated

from fastapi import APIRouter, HTTPException, Request
from pydantic import BaseModel, Field

from saltanvil.studies.bench.measured import measured
from saltanvil.studies.bench.result import BenchRequest, Result, Test, csv_of
from saltanvil.studies.bench.runner import Bench
from saltanvil.studies.bench.subject import path_on_bench
from saltanvil.web.services import Number, Served, Services, Ticket, answered
from saltanvil.web.table import CsvResponse

router = APIRouter(prefix="/api/sessions/{session_id}/bench", tags=["bench"])


class BenchQuestion(BaseModel):
    """whole: the strip's trim and level too. A newer question of the same tab cancels an older one."""

    tab: str = Field(min_length=1, max_length=64)
    number: Annotated[int | None, Field(ge=0, le=1 << 53)] = None
    strip_id: str
    step_id: str | None = None
    lane_id: str | None = None
    whole: bool = False
    test: Test
    frequency_hz: float = Field(default=1000.0, ge=20.0, le=20000.0)
    level_dbfs: float = Field(default=-12.0, ge=-120.0, le=24.0)
    low_dbfs: float = Field(default=-40.0, ge=-120.0, le=24.0)
    burst_ms: float = Field(default=400.0, ge=5.0, le=5000.0)
    compare: bool = False


class BenchAnswer(BaseModel):
    revision: int
    result: Result


@router.post("")
async def ask_bench(services: Served, request: Request, session_id: Number, question: BenchQuestion) -> BenchAnswer | None:
    """Answers null if the same tab has asked again meanwhile."""
    ticket = services.ask(question.tab, "bench", question.number)
    return await answered(services, request, ticket, services.bench, answer, session_id, question)


@router.post("/csv", response_class=CsvResponse)
async def bench_csv(services: Served, request: Request, session_id: Number, question: BenchQuestion) -> str:
    """The same as a table."""
    answer = await ask_bench(services, request, session_id, question)
    if answer is None:
        raise HTTPException(409, "the same tab has asked again meanwhile")
    return csv_of(answer.result)


def answer(services: Services, ticket: Ticket, session_id: int, question: BenchQuestion) -> BenchAnswer:
    version = services.sessions.version(session_id)
    session = version.session
    path = path_on_bench(session, question.strip_id, question.step_id, question.lane_id, question.whole)
    strip = session.strip(question.strip_id)
    media = services.media.at_rate(session.rate_hz)
    channels = media.channels(strip.media_id) if strip.media_id is not None else (1 if strip.kind == "track" else 2)

    bench = Bench(path, session.rate_hz, channels, session.tempo_bpm, ticket.progress, ticket.superseded)
    try:
        result = measured(
            bench,
            BenchRequest(
                question.test, question.frequency_hz, question.level_dbfs, question.low_dbfs, question.burst_ms, question.compare
            ),
        )
    except ValueError as error:
        raise HTTPException(422, str(error)) from error
    return BenchAnswer(revision=version.revision, result=result)
