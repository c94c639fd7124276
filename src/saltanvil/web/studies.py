"""Routes that ask: what did this scope do, and what does the strip look like."""

import asyncio
from typing import Literal

from fastapi import APIRouter, HTTPException
from pydantic import BaseModel, Field

from saltanvil.engine.plan import Scope, session_frames
from saltanvil.engine.render import Cancelled
from saltanvil.engine.scope import Compared, ScopeRenderer
from saltanvil.processors import processor_named
from saltanvil.session.document import Step
from saltanvil.store.sessions import Version
from saltanvil.studies.ledger import Ledger, ledger_of
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
from saltanvil.web.services import Number, Served, Services

router = APIRouter(prefix="/api/sessions/{session_id}/studies", tags=["studies"])

MAX_PASSAGE_S = 1800.0


class PassageQuestion(BaseModel):
    """A scope over a passage."""

    tab: str = Field(min_length=1, max_length=64)
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
    revision: int
    start_s: float
    end_s: float
    ledger: Ledger
    bite: Bite
    bite_start_s: float
    bite_end_s: float
    curve: Curve | None
    response: Response | None
    through_db: float
    roof_db: float | None
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


class OverviewQuestion(BaseModel):
    tab: str = Field(min_length=1, max_length=64)
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


@router.post("/scope")
async def study_scope(services: Served, session_id: Number, asked: ScopeQuestion) -> ScopeAnswer | None:
    """Answers null if the same tab has asked again meanwhile."""
    return await asyncio.get_running_loop().run_in_executor(services.studies, scope_answer, services, session_id, asked)


def compare(
    services: Services, session_id: int, asked: PassageQuestion, kind: str
) -> tuple[Version, Compared, Step | None, Scope, int, int] | None:
    """Before and after of the asked scope; None if the tab has asked a question of this kind again meanwhile."""
    version = services.sessions.version(session_id)
    session, rate = version.session, version.session.rate_hz
    media = services.media.at_rate(rate)
    start = round(asked.start_s * rate)
    stop = min(round(asked.end_s * rate), session_frames(session, media))
    if stop - start < rate // 50:
        raise HTTPException(422, "the passage is shorter than 20 ms or lies behind the end; choose a longer one")
    if stop - start > MAX_PASSAGE_S * rate:
        raise HTTPException(422, "the passage is longer than half an hour; choose a shorter one")
    scope = Scope(asked.strip_id, asked.step_id, asked.lane_id)
    question = services.ask(asked.tab, kind)
    try:
        found = ScopeRenderer(session, media, services.cache, start, stop, question.superseded, services.pool).compare(scope)
    except Cancelled:
        return None
    step = session.step(scope.step_id).step if scope.step_id is not None else None
    return version, found, step, scope, start, stop


def scope_answer(services: Services, session_id: int, asked: ScopeQuestion) -> ScopeAnswer | None:
    compared = compare(services, session_id, asked, "scope")
    if compared is None:
        return None
    version, found, step, scope, start, stop = compared
    rate = version.session.rate_hz
    ledger = ledger_of(found, rate, step)
    through_db = processor_named(step.kind).through_db(step.settings) if step is not None and not step.bypass else 0.0
    length = stop - start
    first = min(int(asked.zoom_start * length), length - 64)
    last = max(round(asked.zoom_end * length), first + 64)
    services.matched(asked.tab, scope, ledger.matched_db)
    return ScopeAnswer(
        revision=version.revision,
        start_s=start / rate,
        end_s=stop / rate,
        ledger=ledger,
        bite=bite_of(found, asked.columns, first, last, through_db),
        through_db=through_db,
        roof_db=processor_named(step.kind).roof_db(step.settings) if step is not None else None,
        bite_start_s=(start + first) / rate,
        bite_end_s=(start + last) / rate,
        response=response_of(step, rate) if step is not None else None,
        curve=curve_of(step, found.detector_db) if step is not None else None,
        latency_ms=found.latency_frames * 1000 / rate,
        strip_latency_ms=found.total_latency_frames * 1000 / rate,
    )


@router.post("/spectrum")
async def study_spectrum(services: Served, session_id: Number, asked: SpectrumQuestion) -> SpectrumAnswer | None:
    """Answers null if the same tab has asked again meanwhile."""
    return await asyncio.get_running_loop().run_in_executor(services.studies, spectrum_answer, services, session_id, asked)


def spectrum_answer(services: Services, session_id: int, asked: SpectrumQuestion) -> SpectrumAnswer | None:
    compared = compare(services, session_id, asked, "spectrum")
    if compared is None:
        return None
    version, found, step, _, start, _ = compared
    rate = version.session.rate_hz
    spectrum = spectrum_of(found, rate, step, asked.fraction, asked.moving)
    return SpectrumAnswer(revision=version.revision, start_s=start / rate, spectrum=spectrum)


@router.post("/overview")
async def study_overview(services: Served, session_id: Number, asked: OverviewQuestion) -> OverviewAnswer | None:
    """Answers null if the same tab has asked again meanwhile."""
    return await asyncio.get_running_loop().run_in_executor(services.studies, overview_answer, services, session_id, asked)


def overview_answer(services: Services, session_id: int, asked: OverviewQuestion) -> OverviewAnswer | None:
    version = services.sessions.version(session_id)
    session, rate = version.session, version.session.rate_hz
    media = services.media.at_rate(rate)
    frames = session_frames(session, media)
    question = services.ask(asked.tab, "overview")
    renderer = ScopeRenderer(session, media, services.cache, 0, frames, question.superseded, services.pool)
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
