"""Routes that ask: what did this scope do, and what does the strip look like."""

from dataclasses import replace
from typing import Annotated, Literal

import numpy as np
from fastapi import APIRouter, HTTPException, Query, Request
from pydantic import BaseModel, Field

from saltanvil.engine.audition import Scope
from saltanvil.engine.latency import Latencies
from saltanvil.engine.render import Cancelled
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.engine.time import session_frames
from saltanvil.measure.resonances import Resonance, verdict_text
from saltanvil.measure.spectrum import moving_hop
from saltanvil.processors import processor_named
from saltanvil.processors.descriptor import SettingValue
from saltanvil.processors.evidence import Hint
from saltanvil.session.apply import AnyEdit
from saltanvil.session.document import Id, Key, Session, Step, Strip
from saltanvil.session.graph import Graph, NodeId
from saltanvil.session.settings import resolve
from saltanvil.session.slots import SlotOwner
from saltanvil.studies import tamer_study
from saltanvil.studies.aim import Answer, Question, Search
from saltanvil.studies.bands import Bands, bands_of
from saltanvil.studies.ledger import Ledger, ledger_of
from saltanvil.studies.make_up import make_up_level_db
from saltanvil.studies.match import louder_by_db
from saltanvil.studies.moving import MovedOver, moved_over
from saltanvil.studies.passage import Passage, binned, columns_of_bins, measured, passage_of, window_frames, windows
from saltanvil.studies.pictures import Bite, Curve, Response, Spectrum, bite_of, curve_of, response_of, rounded, spectrum_of
from saltanvil.studies.routing import Silences, source_name
from saltanvil.studies.slots import SlotLoudness, slot_loudness
from saltanvil.web.services import Number, Served, Services, Ticket, answered

router = APIRouter(prefix="/api/sessions/{session_id}/studies", tags=["studies"])

MAX_PASSAGE_S = 1800.0


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
    """settings: those the step was measured with, at the passage's middle where they move; remark: what they say in words;
    moving: what moves over the passage; latency_ms, strip_latency_ms: of the scope and at its strip's end, as heard."""

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
    remark: str
    latency_ms: float
    strip_latency_ms: float
    moving: list[MovedOver]


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
    """An edit of a strip, such as a step moved to another place or a starting point tried, over a passage."""

    tab: str = Field(min_length=1, max_length=64)
    number: Asking = None
    start_s: float = Field(ge=0.0, le=1e6)
    end_s: float = Field(ge=0.0, le=1e6)
    strip_id: str
    edit: AnyEdit


class OrderAnswer(BaseModel):
    """By how much the strip would get louder over the passage."""

    revision: int
    louder_db: float


class SlotsQuestion(BaseModel):
    """The slots of a step, a lane or a strip, over a passage."""

    tab: str = Field(min_length=1, max_length=64)
    number: Asking = None
    of: SlotOwner
    id: str
    start_s: float = Field(ge=0.0, le=1e6)
    end_s: float = Field(ge=0.0, le=1e6)


class SlotsAnswer(BaseModel):
    """How loud each of them is, and the gain that makes them equally loud for listening."""

    revision: int
    slots: list[SlotLoudness]


class LaneLevelAnswer(BaseModel):
    """The level at which a lane leaves as loud as it enters."""

    revision: int
    level_db: float


class OverviewQuestion(BaseModel):
    tab: str = Field(min_length=1, max_length=64)
    number: Asking = None
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


class Study:
    """A question about a passage of a session, checked."""

    def __init__(
        self,
        services: Services,
        ticket: Ticket,
        session_id: int,
        passage: "PassageQuestion | OrderQuestion | SlotsQuestion | AimQuestion | ResonancesQuestion",
    ) -> None:
        self.services, self._ticket = services, ticket
        self.version = services.sessions.version(session_id)
        self.session, self.rate = self.version.session, self.version.session.rate_hz
        self.media = services.media.at_rate(self.rate)
        self.start = round(passage.start_s * self.rate)
        self.stop = min(round(passage.end_s * self.rate), session_frames(self.session, self.media))
        if self.stop - self.start < self.rate // 50:
            raise HTTPException(422, "the passage is shorter than 20 ms or lies behind the end; choose a longer one")
        if self.stop - self.start > MAX_PASSAGE_S * self.rate:
            raise HTTPException(422, "the passage is longer than half an hour; choose a shorter one")

    @property
    def middle_s(self) -> float:
        """Where settings that move are read for the whole of the passage."""
        return (self.start + self.stop) / (2.0 * self.rate)

    def renderer(self, start: int, stop: int) -> ScopeRenderer:
        services = self.services
        return ScopeRenderer(self.session, self.media, services.cache, start, stop, self._ticket.superseded, services.pool)

    def measured(self, scope: Scope) -> Passage:
        return measured(self.renderer, scope, self.start, self.stop, self.linear_gain_db(scope))

    def linear_gain_db(self, scope: Scope) -> float:
        """The gain of what the scope leaves untouched."""
        step = self.step(scope)
        if step is None or step.bypassed:
            return 0.0
        settings = resolve(self.session, step, at_s=self.middle_s)
        return processor_named(step.kind).linear_gain_db(settings)

    def step(self, scope: Scope) -> Step | None:
        return self.session.step(scope.step_id).step if scope.step_id is not None else None

    def windows(self) -> list[tuple[int, int]]:
        return list(windows(self.start, self.stop, window_frames(len(self.session.strips), self.rate)))


def scope_of(passage: PassageQuestion) -> Scope:
    return Scope(passage.strip_id, passage.step_id, passage.lane_id)


@router.post("/scope")
async def study_scope(services: Served, request: Request, session_id: Number, question: ScopeQuestion) -> ScopeAnswer | None:
    """Answers null if the same tab has asked again meanwhile."""
    ticket = services.ask(question.tab, "scope", question.number)
    return await answered(services, request, ticket, services.pictures, scope_answer, session_id, question)


def scope_answer(services: Services, ticket: Ticket, session_id: int, question: ScopeQuestion) -> ScopeAnswer:
    study, scope = Study(services, ticket, session_id, question), scope_of(question)
    session, rate, start, stop = study.session, study.rate, study.start, study.stop
    whole = study.measured(scope)
    step = study.step(scope)
    key = step.key if step is not None else None
    strip = session.strip(scope.strip_id)
    silent = Silences(session).of(strip)
    ledger = ledger_of(whole, session, step, None if key is None else source_name(session, key), silent, study.middle_s)
    if step is None and scope.lane_id is None and ledger.after.sample_peak_dbfs <= -120.0 < ledger.before.sample_peak_dbfs:
        hint = silenced_by(study, strip)
        ledger = replace(ledger, hints=[*ledger.hints, *([hint] if hint is not None else [])])
    settings = resolve(session, step, at_s=study.middle_s) if step is not None else None
    linear_gain_db, ceiling_db = study.linear_gain_db(scope), None
    if step is not None and settings is not None:
        ceiling_db = processor_named(step.kind).output_ceiling_db(settings)
    delays = Latencies(Graph(session))
    length = stop - start
    first = min(int(question.zoom_start * length), length - 64)
    last = max(round(question.zoom_end * length), first + 64)
    if whole.envelopes is not None and last - first <= window_frames(len(session.strips), rate):  # near enough for samples
        near = passage_of(study.renderer(start + first, start + last).compare(scope), rate)
        bite = bite_of(near, question.columns, linear_gain_db=linear_gain_db)
    else:
        bite = bite_of(whole, question.columns, first, last, linear_gain_db)
    services.matched(question.tab, scope, ledger.matched_db)
    return ScopeAnswer(
        revision=study.version.revision,
        start_s=start / rate,
        end_s=stop / rate,
        ledger=ledger,
        bite=bite,
        linear_gain_db=linear_gain_db,
        output_ceiling_db=ceiling_db,
        settings={} if settings is None else settings.model_dump(mode="json"),
        remark=processor_named(step.kind).remark(settings) if step is not None and settings is not None else "",
        bite_start_s=(start + first) / rate,
        bite_end_s=(start + last) / rate,
        response=response_of(step, settings, rate) if step is not None and settings is not None else None,
        curve=curve_of(step, settings, whole.detector_db) if step is not None and settings is not None else None,
        latency_ms=delays.scope(scope.strip_id, scope.step_id, scope.lane_id) * 1000 / rate,
        moving=moved_over(session, scope.strip_id, scope.step_id, scope.lane_id, start / rate, stop / rate),
        strip_latency_ms=delays.latency_frames[NodeId("end", strip.id)] * 1000 / rate,
    )


def silenced_by(study: Study, strip: Strip) -> Hint | None:
    """The first step of a strip's path that lets nothing out, and what it says of itself."""
    session = study.session
    for step in strip.path.steps:
        result = study.measured(Scope(strip.id, step.id))
        own = ledger_of(result, session, step, None if step.key is None else source_name(session, step.key))
        if own.after.sample_peak_dbfs <= -120.0:
            label = processor_named(step.kind).label.lower()
            why = next((hint.text for hint in own.hints), "")
            return Hint("silenced", f"The {label} is silent. {why}".strip(), None)
    return None


@router.post("/spectrum")
async def study_spectrum(
    services: Served, request: Request, session_id: Number, question: SpectrumQuestion
) -> SpectrumAnswer | None:
    """Answers null if the same tab has asked again meanwhile."""
    ticket = services.ask(question.tab, "spectrum", question.number)
    return await answered(services, request, ticket, services.pictures, spectrum_answer, session_id, question)


def spectrum_answer(services: Services, ticket: Ticket, session_id: int, question: SpectrumQuestion) -> SpectrumAnswer:
    study, scope = Study(services, ticket, session_id, question), scope_of(question)
    rate, step = study.rate, study.step(scope)
    settings = None if step is None else resolve(study.session, step, at_s=study.middle_s)
    parts = (study.renderer(start, stop).compare(scope) for start, stop in study.windows())
    hop = moving_hop(study.stop - study.start) if question.moving else None
    spectrum = spectrum_of(parts, rate, step, settings, question.fraction, hop)
    return SpectrumAnswer(revision=study.version.revision, start_s=study.start / rate, spectrum=spectrum)


@router.post("/bands")
async def study_bands(services: Served, request: Request, session_id: Number, question: PassageQuestion) -> BandsAnswer | None:
    """What each lane of the asked split did. Answers null if the same tab has asked again meanwhile."""
    ticket = services.ask(question.tab, "bands", question.number)
    return await answered(services, request, ticket, services.pictures, bands_answer, session_id, question)


def bands_answer(services: Services, ticket: Ticket, session_id: int, question: PassageQuestion) -> BandsAnswer:
    study = Study(services, ticket, session_id, question)
    place = study.session.step(question.step_id or "")
    if not place.step.lanes:
        raise HTTPException(422, f"this step is a {place.step.kind} and has no lanes; ask about a split")
    result = bands_of(study.session, place.strip, place.step, study.measured)
    return BandsAnswer(revision=study.version.revision, bands=result)


@router.post("/order")
async def study_order(services: Served, request: Request, session_id: Number, question: OrderQuestion) -> OrderAnswer | None:
    """What an edit would do to a strip's loudness; nothing is edited. Answers null if the same tab has asked again meanwhile."""
    ticket = services.ask(question.tab, "order", question.number)
    return await answered(services, request, ticket, services.studies, order_answer, session_id, question)


def order_answer(services: Services, ticket: Ticket, session_id: int, question: OrderQuestion) -> OrderAnswer:
    study = Study(services, ticket, session_id, question)
    louder_db = louder_by_db(
        study.session, question.strip_id, question.edit, study.media, study.start, study.stop, ticket.superseded,
        services.pool,
    )  # fmt: skip
    return OrderAnswer(revision=study.version.revision, louder_db=round(louder_db, 3))


@router.post("/slots")
async def study_slots(services: Served, request: Request, session_id: Number, question: SlotsQuestion) -> SlotsAnswer | None:
    """The loudness of every slot of a scope. Answers null if the same tab has asked again meanwhile."""
    ticket = services.ask(question.tab, "slots", question.number)
    return await answered(services, request, ticket, services.studies, slots_answer, session_id, question)


def slots_answer(services: Services, ticket: Ticket, session_id: int, question: SlotsQuestion) -> SlotsAnswer:
    study = Study(services, ticket, session_id, question)
    slots = slot_loudness(
        study.session, question.of, question.id, study.media, study.start, study.stop, ticket.superseded, services.pool
    )
    return SlotsAnswer(revision=study.version.revision, slots=slots)


@router.post("/give-back")
async def study_give_back(
    services: Served, request: Request, session_id: Number, question: PassageQuestion
) -> LaneLevelAnswer | None:
    """The level of a lane that holds its loudness. Answers null if the same tab has asked again meanwhile."""
    ticket = services.ask(question.tab, "make up", question.number)
    return await answered(services, request, ticket, services.studies, give_back_answer, session_id, question)


def give_back_answer(services: Services, ticket: Ticket, session_id: int, question: PassageQuestion) -> LaneLevelAnswer:
    study = Study(services, ticket, session_id, question)
    _, _, lane = study.session.lane(question.lane_id or "")
    level_db = make_up_level_db(study.measured(scope_of(question)), lane.level_db)
    return LaneLevelAnswer(revision=study.version.revision, level_db=round(min(max(level_db, -90.0), 24.0), 1))


class AimQuestion(BaseModel):
    """A figure of a step, a lane or a strip over a passage, and the target; setting: what reaches it, the usual one if None."""

    tab: str = Field(min_length=1, max_length=64)
    number: Asking = None
    of: SlotOwner
    id: Id
    figure: str = Field(max_length=64)
    setting: str | None = Field(default=None, max_length=64)
    target: float = Field(ge=-1000.0, le=1000.0)
    start_s: float = Field(ge=0.0, le=1e6)
    end_s: float = Field(ge=0.0, le=1e6)


class AimAnswer(BaseModel):
    revision: int
    answer: Answer


@router.post("/aim")
async def study_aim(services: Served, request: Request, session_id: Number, question: AimQuestion) -> AimAnswer | None:
    """The setting that reaches a figure; nothing is edited. Answers null if the same tab has asked again meanwhile."""
    ticket = services.ask(question.tab, "aim", question.number)
    return await answered(services, request, ticket, services.studies, aim_answer, session_id, question)


def aim_answer(services: Services, ticket: Ticket, session_id: int, question: AimQuestion) -> AimAnswer:
    study = Study(services, ticket, session_id, question)
    search = Search(
        study.session, Question(question.of, question.id, question.figure, question.target, question.setting), study.media,
        services.cache,
        study.start, study.stop, ticket.superseded, services.pool, ticket.progress,
    )  # fmt: skip
    return AimAnswer(revision=study.version.revision, answer=search.run())


class Progress(BaseModel):
    share: float


@router.get("/progress")
def study_progress(
    services: Served,
    session_id: Number,
    tab: Annotated[str, Query(max_length=64)],
    kind: Literal["bench", "contrast", "aim", "resonances"],
) -> Progress:
    """How much of an answer that a tab waits for is there; 1 if it waits for none."""
    return Progress(share=services.shares.get((tab, kind), 1.0))


class ResonancesQuestion(BaseModel):
    """What the step is to study: what enters it over a passage, or its outside key. passage: its name, for the document."""

    tab: str = Field(min_length=1, max_length=64)
    number: Asking = None
    step_id: Id
    passage: str = Field(max_length=100)
    start_s: float = Field(ge=0.0, le=1e6)
    end_s: float = Field(ge=0.0, le=1e6)


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
    study = Study(services, ticket, session_id, question)
    if study.stop - study.start > tamer_study.LONGEST_S * study.rate:
        raise HTTPException(422, f"a study takes {tamer_study.LONGEST_S / 60:.0f} minutes at most; choose a shorter passage")
    place = study.session.step(question.step_id)
    if place.step.kind != "tamer":
        raise HTTPException(422, f"this step is a {place.step.kind}; ask about a resonance tamer")
    scope, entering = Scope(place.strip.id, place.step.id), True
    if (key := place.step.key) is not None:
        scope, entering = key_scope(study.session, place.strip, key), key.at == "before"
    parts = []
    spans = study.windows()
    for number, (start, stop) in enumerate(spans):
        result = study.renderer(start, stop).compare(scope)
        parts.append(result.before if entering else result.after)
        ticket.progress(0.5 * (number + 1) / len(spans))

    def progress(share: float) -> None:
        if ticket.superseded():
            raise Cancelled
        ticket.progress(0.5 + 0.5 * share)

    resonances = tamer_study.study(np.concatenate(parts, axis=1), study.rate, progress)
    start_s, end_s = study.start / study.rate, study.stop / study.rate
    where = f" of {source_name(study.session, key)}" if key is not None else ""
    return ResonancesAnswer(
        revision=study.version.revision, resonances=resonances, verdict=verdict_text(resonances),
        studied=f"{question.passage}{where}, {start_s:.1f} to {end_s:.1f} s",
    )  # fmt: skip


def key_scope(session: Session, own: Strip, key: Key) -> Scope:
    """The step, the lane or the strip (its own if none is named) that a key is taken from, before or after it."""
    if key.step_id is not None:
        return Scope(session.step(key.step_id).strip.id, key.step_id)
    if key.lane_id is not None:
        return Scope(session.lane(key.lane_id)[0].id, None, key.lane_id)
    return Scope(key.strip_id or own.id)


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
