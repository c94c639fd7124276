"""Routes of delivery: what can be chosen, the check, the safe ceiling, and listening to them."""

import secrets
import shutil
from typing import Annotated

import numpy as np
from fastapi import APIRouter, HTTPException, Query
from pydantic import BaseModel, Field

from saltanvil.media.dither import shaped_power_db, shaping_db
from saltanvil.media.formats import FORMATS, RATES, Kind
from saltanvil.session.delivery import FIELDS
from saltanvil.session.document.base import MAIN_ID, Id, NotFound
from saltanvil.studies.delivery.ceiling import Ceilings, CeilingSearch
from saltanvil.studies.delivery.check import DeliveryCheck
from saltanvil.studies.delivery.files import digest_of
from saltanvil.studies.delivery.master import KeptCheck, MasterRenderer, check_master, checked_span, encoder_writings, playback
from saltanvil.studies.delivery.playback import TARGETS, LoudnessTarget, Playback
from saltanvil.web.delivered_files import all_or_nothing
from saltanvil.web.delivering import Check, Delivered
from saltanvil.web.jobs import Job, JobView
from saltanvil.web.services import Number, Served

router = APIRouter(prefix="/api", tags=["delivery"])

Tab = Annotated[str, Query(min_length=1, max_length=64)]
#: Points of the noise-shaping curves.
CURVE_POINTS = 64


class FormatView(BaseModel):
    name: str
    kind: Kind
    label: str
    suffix: str
    lossy: bool
    dithered: bool
    bits: int | None
    rates: list[int]


class DitherCurve(BaseModel):
    """Where the noise of shaped dither lies against plain TPDF noise, at a rate, and by how much its whole power is higher."""

    rate_hz: int
    frequency_hz: list[float]
    level_db: list[float]
    power_db: float


class DeliveryOptions(BaseModel):
    """What can be chosen. fields: of a pattern of names, with what they stand for."""

    formats: list[FormatView]
    targets: list[LoudnessTarget]
    fields: dict[str, str]
    dither: list[DitherCurve]


class CheckRequest(BaseModel):
    """strip_id: the master."""

    strip_id: Id = MAIN_ID
    start_s: float | None = Field(default=None, ge=0.0, le=1e6)
    end_s: float | None = Field(default=None, ge=0.0, le=1e6)


class CheckView(BaseModel):
    """The last check of a session. stale, ceilings_stale: whether the session has been changed since; listen: whether its sound
    is still there; names: what can be listened to; set_aside: why an earlier one cannot be read."""

    checked: DeliveryCheck | None
    made_at: float
    stale: bool
    ceilings: Ceilings | None
    ceilings_stale: bool
    playback: Playback | None
    listen: bool
    names: list[str]
    set_aside: str | None = None


class ListenRequest(BaseModel):
    tab: str = Field(min_length=1, max_length=64)


class ListenView(BaseModel):
    names: list[str]


@router.get("/delivery/options")
def delivery_options() -> DeliveryOptions:
    curves = []
    for rate in RATES:
        frequencies = np.geomspace(50.0, rate / 2.0, CURVE_POINTS)
        levels = shaping_db(rate, frequencies)
        curves.append(
            DitherCurve(
                rate_hz=rate, frequency_hz=[round(float(value), 1) for value in frequencies],
                level_db=[round(float(value), 2) for value in levels], power_db=round(shaped_power_db(rate), 2),
            )
        )  # fmt: skip
    formats = [
        FormatView(
            name=one.name, kind=one.kind, label=one.label, suffix=one.suffix, lossy=one.lossy, dithered=one.dithered,
            bits=one.bits, rates=list(one.rates or RATES),
        )
        for one in FORMATS.values()
    ]  # fmt: skip
    return DeliveryOptions(formats=formats, targets=list(TARGETS), fields=FIELDS, dither=curves)


# ---- check -----------------------------------------------------------------------------------------------------------------


@router.post("/sessions/{session_id}/delivery/check", status_code=202)
def check_delivery(services: Served, session_id: Number, question: CheckRequest) -> JobView:
    """Encode, decode and measure the master with every encoder of the session's delivery: a job; what it found is asked for
    when it is done."""
    session = services.sessions.version(session_id).session
    strip = session.strip(question.strip_id)
    media = services.media.at_rate(session.rate_hz)
    span, tail = checked_span(session, media, question.start_s, question.end_s)
    folder = services.folder / "exports" / f"check-{secrets.token_hex(8)}"

    def work(job: Job) -> None:
        with all_or_nothing(folder):
            renderer = MasterRenderer(media, strip.id, span, tail, job.cancelled, services.pool)
            result = check_master(session, renderer, folder, job.progress)
        services.deliveries.keep(session_id, result.kept(session, services.deliveries.last(session_id)[0]))
        services.restore_sound(Delivered, session_id)
        check = Check(session_id, span.start / session.rate_hz, folder, result.master, result.decoded)
        replaced = services.checks.keep(check)
        if replaced is not None:
            replaced.discard()

    return services.jobs.start(session_id, "check", f"delivery check of {strip.name}", work).view()


@router.post("/sessions/{session_id}/delivery/ceiling", status_code=202)
def find_ceiling(services: Served, session_id: Number, question: CheckRequest) -> JobView:
    """The safe ceiling for the encoders of the session's delivery, and a table of the usual ones: a job."""
    session = services.sessions.version(session_id).session
    strip = session.strip(question.strip_id)
    media = services.media.at_rate(session.rate_hz)
    span, tail = checked_span(session, media, question.start_s, question.end_s)
    if not session.delivery.encoders:
        raise HTTPException(422, "no encoder is chosen; choose those that the files will go through")
    folder = services.folder / "exports" / f"ceiling-{secrets.token_hex(8)}"

    def work(job: Job) -> None:
        try:
            folder.mkdir(parents=True)
            search = CeilingSearch(
                session, strip.id, media, span.start, span.stop, tail,
                encoder_writings(session.delivery), session.delivery.true_peak_dbtp, folder, services.pool, job.cancelled,
                job.progress,
            )  # fmt: skip
            answer = search.run()
        finally:
            shutil.rmtree(folder, ignore_errors=True)
        digest = digest_of(session)
        old = services.deliveries.last(session_id)[0] or KeptCheck(digest="")
        services.deliveries.keep(session_id, old.model_copy(update={"ceilings": answer, "ceiling_digest": digest}))

    return services.jobs.start(session_id, "ceiling", f"safe ceiling of {strip.name}", work).view()


@router.get("/sessions/{session_id}/delivery/check")
def delivery_check(services: Served, session_id: Number) -> CheckView | None:
    """The last check; null if there is none."""
    session = services.sessions.version(session_id).session
    kept, set_aside = services.deliveries.last(session_id)
    if kept is None and set_aside is None:
        return None
    kept = kept or KeptCheck(digest="")
    digest = digest_of(session)
    check = services.checks.of(session_id)
    return CheckView(
        checked=kept.checked, made_at=kept.made_at, stale=kept.digest != digest, ceilings=kept.ceilings,
        ceilings_stale=kept.ceiling_digest != digest, playback=playback(session, kept), listen=check is not None,
        names=[] if check is None else list(Delivered(check, session).names), set_aside=set_aside,
    )  # fmt: skip


# ---- listening -------------------------------------------------------------------------------------------------------------


@router.post("/sessions/{session_id}/delivery/listen")
def listen_to_delivery(services: Served, session_id: Number, question: ListenRequest) -> ListenView:
    """From now on this tab hears the last check: the master first. What else is named over the socket, as a letter."""
    session = services.sessions.version(session_id).session
    check = services.checks.of(session_id)
    if check is None:
        raise NotFound("there is no delivery check to listen to; run one")
    delivered = Delivered(check, session)
    services.replacements.start(question.tab, delivered)
    services.replace_sound(question.tab, delivered)
    return ListenView(names=list(delivered.names))


@router.delete("/sessions/{session_id}/delivery/listen", status_code=204)
def leave_delivery(services: Served, session_id: Number, tab: Tab) -> None:
    """Hear the session again."""
    if isinstance(services.replacements.of(tab, session_id), Delivered):
        services.replacements.end(tab)
        services.replace_sound(tab, None)
