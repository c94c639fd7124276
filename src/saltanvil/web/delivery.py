"""Routes of delivery: names, files with their report, the check, the safe ceiling, listening to it, and many files at once."""

import io
import secrets
import shutil
import zipfile
from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated

import numpy as np
from fastapi import APIRouter, HTTPException, Query
from fastapi.responses import FileResponse, StreamingResponse
from pydantic import BaseModel, Field

from saltanvil.engine.audition import Scope
from saltanvil.engine.render import render_strips
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.engine.time import session_frames
from saltanvil.media.dither import shaped_power_db, shaping_db
from saltanvil.media.encode import Writing
from saltanvil.media.formats import FORMATS, RATES, FormatName, Kind
from saltanvil.media.recording import Recording, recorded
from saltanvil.session.apply import apply
from saltanvil.session.delivery import FIELDS, Delivery, Span
from saltanvil.session.document import MAIN_ID, Id, NotFound, Session
from saltanvil.session.edits import Set
from saltanvil.session.format import written
from saltanvil.session.settings import Automation, Moved
from saltanvil.store.deliveries import KeptCheck, MeasuredSection, SparedLimiting
from saltanvil.studies.batch import Row, Treatment, planned, process, report_of
from saltanvil.studies.ceiling import Ceilings, CeilingSearch, last_limiter
from saltanvil.studies.contrast import Contrast, contrast_of
from saltanvil.studies.delivered import figures_of_blocks
from saltanvil.studies.delivery import deliver, digest_of, files_of, spans_of
from saltanvil.studies.delivery_check import Checked, check_formats, interruptible, measured_master
from saltanvil.studies.delivery_report import Report
from saltanvil.studies.match import settled
from saltanvil.studies.passage import window_frames
from saltanvil.studies.playback import TARGETS, Playback, Spared, Target, gain_to, playback_of, sections_of
from saltanvil.web.delivering import Check, Delivered
from saltanvil.web.jobs import Job, JobView
from saltanvil.web.services import Number, Served, Services

router = APIRouter(prefix="/api", tags=["delivery"])

Tab = Annotated[str, Query(min_length=1, max_length=64)]
#: Points of the noise-shaping curves.
CURVE_POINTS = 64
#: Of a check: what rendering, encoding and the render with less limiting take.
RENDERED_SHARE, ENCODED_SHARE = 0.35, 0.85


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
    targets: list[Target]
    fields: dict[str, str]
    dither: list[DitherCurve]


class DeliveryRequest(BaseModel):
    """delivery: as the session has it, if it is not given; start_s, end_s: the passage, where that is what goes out."""

    delivery: Delivery | None = None
    start_s: float | None = Field(default=None, ge=0.0, le=1e6)
    end_s: float | None = Field(default=None, ge=0.0, le=1e6)
    report: bool = False


class FileNames(BaseModel):
    """problem: why there are none."""

    names: list[str]
    problem: str | None = None


class CheckRequest(BaseModel):
    """strip_id: the master."""

    strip_id: Id = MAIN_ID
    start_s: float | None = Field(default=None, ge=0.0, le=1e6)
    end_s: float | None = Field(default=None, ge=0.0, le=1e6)


class CheckView(BaseModel):
    """The last check of a session. stale, ceilings_stale: whether the session has been changed since; listen: whether its sound
    is still there; names: what can be listened to; set_aside: why an earlier one cannot be read."""

    checked: Checked | None
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


class BatchRequest(BaseModel):
    """Files of an import that was begun and sent are put through a strip's path instead. loudness_lufs: what each is brought
    to."""

    import_id: int = Field(ge=0, le=1 << 53)
    strip_id: Id = MAIN_ID
    format: FormatName = "wav24"
    loudness_lufs: float | None = Field(default=None, ge=-60.0, le=0.0)
    true_peak_dbtp: float = Field(default=-1.0, ge=-24.0, le=0.0)
    tail: bool = True


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


# ---- files -----------------------------------------------------------------------------------------------------------------


def today() -> str:
    return datetime.now().astimezone().strftime("%Y-%m-%d")


def set_up(session: Session, question: DeliveryRequest) -> Delivery:
    """What is asked for, of strips that are there: one that was removed since is left out. Raises HTTPException."""
    if question.delivery is not None:
        return question.delivery
    there = {strip.id for strip in session.strips}
    chosen = [strip_id for strip_id in session.delivery.strip_ids if strip_id in there]
    if not chosen:
        raise HTTPException(422, "none of the chosen strips is there any more; choose what goes out")
    return session.delivery.model_copy(update={"strip_ids": chosen})


@router.post("/sessions/{session_id}/delivery/names")
def delivery_names(services: Served, session_id: Number, question: DeliveryRequest) -> FileNames:
    """What the files would be called."""
    session = services.sessions.version(session_id).session
    try:
        delivery = set_up(session, question)
        spans = spans_of(session, services.media.at_rate(session.rate_hz), delivery, question.start_s, question.end_s)
        return FileNames(names=[file.name for file in files_of(session, delivery, spans, today())])
    except NotFound as error:
        return FileNames(names=[], problem=str(error))
    except HTTPException as error:
        return FileNames(names=[], problem=str(error.detail))
    except ValueError as error:
        return FileNames(names=[], problem=str(error))


@router.post("/sessions/{session_id}/delivery/files", status_code=202)
def delivery_files(services: Served, session_id: Number, question: DeliveryRequest) -> JobView:
    """Render, convert, dither or encode, and read back: a job whose files can be fetched."""
    session = services.sessions.version(session_id).session
    media = services.media.at_rate(session.rate_hz)
    delivery = set_up(session, question)
    try:
        spans = spans_of(session, media, delivery, question.start_s, question.end_s)
        files = files_of(session, delivery, spans, today())
    except ValueError as error:
        raise HTTPException(422, str(error)) from error
    folder = services.folder / "exports" / secrets.token_hex(8)

    def work(job: Job) -> None:
        with all_or_nothing(folder):
            paths = [folder / str(index) for index in range(len(files))]
            share = 0.9 if question.report else 1.0
            done = deliver(
                session, media, delivery, files, paths, lambda part: job.progress(part * share), job.cancelled, services.pool
            )
            job.paths, job.files = paths, [file.name for file in files]
            job.warnings = [file.warning for file in done if file.warning is not None]
            if question.report:
                contrast = contrast_over(services, session, job, lambda part: job.progress(share + part * (1.0 - share)))
                kept, _ = services.deliveries.last(session_id)
                stale = kept is not None and kept.digest != digest_of(session)
                made = datetime.now(UTC).astimezone().strftime("%Y-%m-%d %H:%M %Z")
                report = Report(
                    session, delivery, done, made, contrast, playback(session, kept), kept.checked if kept else None, stale
                )
                add_report(report, folder, job)

    return services.jobs.start(session_id, "export", ", ".join(file.name for file in files)[:120], work).view()


class all_or_nothing:
    """A folder for files of a job; where that fails or is cancelled, it goes with all that is in it."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def __enter__(self) -> Path:
        self.folder.mkdir(parents=True)
        return self.folder

    def __exit__(self, kind: type[BaseException] | None, *rest: object) -> None:
        if kind is not None:
            shutil.rmtree(self.folder, ignore_errors=True)


def add_report(report: Report, folder: Path, job: Job) -> None:
    base = f"{job.files[0].rsplit('.', 1)[0]} report" if len(job.files) == 1 else "Delivery report"
    for suffix, text in ((".html", report.html()), (".json", report.json()), (".csv", report.csv())):
        path = folder / f"report{suffix}"
        path.write_text(text, encoding="utf-8")
        job.paths.append(path)
        job.files.append(f"{base}{suffix}")


def contrast_over(services: Services, session: Session, job: Job, progress: Callable[[float], None]) -> Contrast:
    """Of the main, over the whole song."""
    media = services.media.at_rate(session.rate_hz)
    return contrast_of(
        lambda start, stop: ScopeRenderer(session, media, services.cache, start, stop, job.cancelled, services.pool),
        Scope(MAIN_ID),
        session_frames(session, media),
        window_frames(len(session.strips), session.rate_hz),
        session.keep_contrast_lu,
        progress,
    )


@router.get("/exports/{number}/zip", response_class=StreamingResponse)
def download_all(services: Served, number: Number) -> StreamingResponse:
    """All files of a job in one, as they are."""
    job = services.jobs.get(number)
    if not job.paths:
        raise HTTPException(404, "there are no files; deliver again")
    files = list(zip(job.paths, job.files, strict=True))
    headers = {"content-disposition": 'attachment; filename="delivery.zip"'}
    return StreamingResponse(zipped(files), media_type="application/zip", headers=headers)


def zipped(files: list[tuple[Path, str]]) -> Iterator[bytes]:
    """A zip of files, made as it is read."""

    class Stream(io.RawIOBase):
        held = bytearray()

        def writable(self) -> bool:
            return True

        def write(self, data: object) -> int:
            self.held += memoryview(data)  # type: ignore[arg-type]
            return len(memoryview(data))  # type: ignore[arg-type]

        def taken(self) -> bytes:
            result = bytes(self.held)
            self.held.clear()
            return result

    stream = Stream()
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_STORED) as archive:
        for path, name in files:
            info = zipfile.ZipInfo(name, datetime.now().timetuple()[:6])
            with archive.open(info, "w", force_zip64=True) as target, path.open("rb") as source:
                while block := source.read(1 << 18):
                    target.write(block)
                    yield stream.taken()
    yield stream.taken()


@router.get("/exports/{number}/{index}", response_class=FileResponse)
def download(services: Served, number: Number, index: Number) -> FileResponse:
    job = services.jobs.get(number)
    if not 0 <= index < len(job.paths):
        raise HTTPException(404, "there is no such file; deliver again")
    name = job.files[index]
    if name.endswith(".html"):  # a report, which is read where it is
        return FileResponse(job.paths[index], filename=name, media_type="text/html", content_disposition_type="inline")
    return FileResponse(job.paths[index], filename=name)


# ---- check -----------------------------------------------------------------------------------------------------------------


def span_of(services: Services, session: Session, question: CheckRequest) -> tuple[Span, bool]:
    """What is checked, and whether its tail belongs to it. Raises HTTPException."""
    media = services.media.at_rate(session.rate_hz)
    delivery = session.delivery
    extent = "passage" if question.start_s is not None else "whole"
    try:
        span = spans_of(session, media, delivery.model_copy(update={"extent": extent}), question.start_s, question.end_s)[0]
    except ValueError as error:
        raise HTTPException(422, str(error)) from error
    return span, delivery.tail and span.stop == session_frames(session, media)


def writings_of(delivery: Delivery) -> list[Writing]:
    """How the encoders of a check write: as the delivery would."""
    return [Writing(name, delivery.rate_hz, delivery.dither) for name in delivery.encoders]


def rendered(
    services: Services, session: Session, strip_id: str, span: Span, tail: bool, path: Path, job: Job, share: float
) -> Recording:
    """A strip as it is delivered, before conversion. Raises Cancelled, OSError."""
    media = services.media.at_rate(session.rate_hz)
    whole = settled(session, media, job.cancelled, services.pool)
    begun, done = job.share, 0

    def blocks() -> Iterator[np.ndarray]:
        nonlocal done
        strips = render_strips(whole, media, span.start, span.stop, [strip_id], job.cancelled, tail)
        for block in interruptible((held[strip_id] for held in strips), job.cancelled):
            done += block.shape[1]
            job.progress(begun + share * min(1.0, done / (span.stop - span.start)))
            yield block

    return recorded(path, blocks(), session.rate_hz, 2)


@router.post("/sessions/{session_id}/delivery/check", status_code=202)
def check_delivery(services: Served, session_id: Number, question: CheckRequest) -> JobView:
    """Encode, decode and measure the master with every encoder of the session's delivery: a job; what it found is asked for
    when it is done."""
    session = services.sessions.version(session_id).session
    strip = session.strip(question.strip_id)
    span, tail = span_of(services, session, question)
    folder = services.folder / "exports" / f"check-{secrets.token_hex(8)}"

    def work(job: Job) -> None:
        with all_or_nothing(folder):
            delivery, rate = session.delivery, session.rate_hz
            master = rendered(services, session, strip.id, span, tail, folder / "master", job, RENDERED_SHARE)
            checked = measured_master(master, strip.id, strip.name, span.start / rate, delivery.true_peak_dbtp)
            decoded = check_formats(
                master, checked, writings_of(delivery), folder,
                lambda part: job.progress(RENDERED_SHARE + part * (ENCODED_SHARE - RENDERED_SHARE)), job.cancelled,
            )  # fmt: skip
            checked.formats = [one.checked for one in decoded]
            sections = [
                MeasuredSection(id=held.id, name=held.name, start_s=held.start_s, end_s=held.end_s, figures=figures)
                for held, figures in sections_of(master, span.start, session.sections)
            ]
            spared = spared_limiting(services, session, strip.id, span, tail, checked, folder, job)
        old, _ = services.deliveries.last(session_id)
        services.deliveries.keep(
            session_id,
            KeptCheck(
                digest=digest_of(session), checked=checked, sections=sections, spared=spared,
                ceilings=old.ceilings if old else None, ceiling_digest=old.ceiling_digest if old else "",
            ),
        )  # fmt: skip
        services.uncover(Delivered, session_id)
        replaced = services.checks.keep(Check(session_id, span.start / rate, folder, master, decoded))
        if replaced is not None:
            replaced.discard()

    return services.jobs.start(session_id, "check", f"delivery check of {strip.name}", work).view()


def spared_limiting(
    services: Services, session: Session, strip_id: str, span: Span, tail: bool, checked: Checked, folder: Path, job: Job
) -> SparedLimiting | None:
    """The master with as much less input gain in its last limiter as a player takes off; None where it takes off nothing."""
    limiter = last_limiter(session, strip_id)
    gain = gain_to(session.delivery.loudness_lufs, checked.master)
    if limiter is None or gain is None or gain > -0.1:
        return None
    if "gain_db" in Automation(session).moving("step", limiter.id, limiter):
        return None  # its envelope says what the gain is
    held = limiter.settings.model_dump()["gain_db"]
    lower = max(held + gain, -12.0)
    moved = Set(values=[Moved(of="step", id=limiter.id, name="gain_db", value=lower)], alone=True)
    softer = rendered(services, apply(session, moved), strip_id, span, tail, folder / "softer", job, 1.0 - ENCODED_SHARE)
    try:
        return SparedLimiting(by_db=held - lower, figures=figures_of_blocks(softer.blocks(), softer.channels, softer.rate))
    finally:
        softer.discard()


@router.post("/sessions/{session_id}/delivery/ceiling", status_code=202)
def find_ceiling(services: Served, session_id: Number, question: CheckRequest) -> JobView:
    """The safe ceiling for the encoders of the session's delivery, and a table of the usual ones: a job."""
    session = services.sessions.version(session_id).session
    strip = session.strip(question.strip_id)
    span, tail = span_of(services, session, question)
    if not session.delivery.encoders:
        raise HTTPException(422, "no encoder is chosen; choose those that the files will go through")
    folder = services.folder / "exports" / f"ceiling-{secrets.token_hex(8)}"

    def work(job: Job) -> None:
        try:
            folder.mkdir(parents=True)
            search = CeilingSearch(
                session, strip.id, services.media.at_rate(session.rate_hz), span.start, span.stop, tail,
                writings_of(session.delivery), session.delivery.true_peak_dbtp, folder, services.pool, job.cancelled,
                job.progress,
            )  # fmt: skip
            answer = search.run()
        finally:
            shutil.rmtree(folder, ignore_errors=True)
        digest = digest_of(session)
        old = services.deliveries.last(session_id)[0] or KeptCheck(digest="")
        services.deliveries.keep(session_id, old.model_copy(update={"ceilings": answer, "ceiling_digest": digest}))

    return services.jobs.start(session_id, "ceiling", f"safe ceiling of {strip.name}", work).view()


def playback(session: Session, kept: KeptCheck | None) -> Playback | None:
    """What a player makes of the master that was checked, at the loudness that is wished now."""
    if kept is None or kept.checked is None:
        return None
    spared = None if kept.spared is None else Spared(kept.spared.by_db, kept.spared.figures)
    figures, target = kept.checked.master, session.delivery.loudness_lufs
    gain = gain_to(target, figures)
    if spared is not None and (gain is None or abs(spared.by_db + gain) > 0.1):
        spared = None  # measured for another target
    return playback_of(target, figures, [(held.name, held.figures) for held in kept.sections], spared)


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
    services.covers.start(question.tab, delivered)
    services.cover(question.tab, delivered)
    return ListenView(names=list(delivered.names))


@router.delete("/sessions/{session_id}/delivery/listen", status_code=204)
def leave_delivery(services: Served, session_id: Number, tab: Tab) -> None:
    """Hear the session again."""
    if isinstance(services.covers.of(tab, session_id), Delivered):
        services.covers.end(tab)
        services.cover(tab, None)


# ---- many files ------------------------------------------------------------------------------------------------------------


@router.post("/sessions/{session_id}/delivery/batch", status_code=202)
def batch(services: Served, session_id: Number, question: BatchRequest) -> JobView:
    """Put files that were sent for an import through a strip's path: a job whose files can be fetched, with a report."""
    session = services.sessions.version(session_id).session
    strip = session.strip(question.strip_id)
    sent = services.imports.get(session_id, question.import_id)
    files = [(one.path, one.name) for one in sent.sound_files() if one.path is not None]
    if not files:
        raise HTTPException(422, "no sound file was sent; choose files again")
    path = strip.path.model_copy(deep=True)
    for step in path.walk():
        step.key = None  # of a file there is nothing else to listen to
    for lane in path.lanes():
        lane.output = None
    treatment = Treatment(
        written(path), question.format, question.loudness_lufs, question.true_peak_dbtp, session.tempo_bpm, question.tail
    )
    folder = services.folder / "exports" / secrets.token_hex(8)

    def work(job: Job) -> None:
        try:
            with all_or_nothing(folder):
                done: list[tuple[Path, Row]] = []
                rows: list[Row] = []
                for number, item in enumerate(planned(files, folder, question.format, {})):
                    target = folder / str(number)  # what files are called is never a path
                    rows.append(process(replace(item, target=str(target)), treatment, job.cancelled))
                    if rows[-1].state == "done":
                        done.append((target, rows[-1]))
                    job.progress(len(rows) / len(files))
                report = folder / "report"
                report.write_text(report_of(rows), encoding="utf-8")
                job.paths = [*(path for path, _ in done), report]
                job.files = [*(row.output for _, row in done), "batch.csv"]
                job.warnings = [f"{row.input}: {row.error}" for row in rows if row.error]
                job.warnings += [row.warning for _, row in done if row.warning]
        finally:
            sent.discard()

    title = files[0][1] if len(files) == 1 else f"{len(files)} files"
    return services.jobs.start(session_id, "batch", title, work).view()
