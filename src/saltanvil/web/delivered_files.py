"""Routes of delivered files: their names, making them with a report, fetching them, and many files through one path."""

import io
import secrets
import shutil
import zipfile
from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

from fastapi import APIRouter, HTTPException, Request
from fastapi.responses import FileResponse, StreamingResponse
from pydantic import BaseModel, Field

from saltanvil.engine.audition import Scope
from saltanvil.media.formats import FormatName
from saltanvil.session.delivery import Delivery
from saltanvil.session.document.base import MAIN_ID, Id, NotFound
from saltanvil.session.document.session import Session
from saltanvil.session.format import written
from saltanvil.studies.contrast import Contrast, contrast_of
from saltanvil.studies.delivery.batch import Row, Treatment, planned, process, report_of
from saltanvil.studies.delivery.files import (
    deliver,
    digest_of,
    expected_bytes,
    expected_seconds,
    files_of,
    left_out,
    spans_of,
)
from saltanvil.studies.delivery.master import playback, resolve_delivery
from saltanvil.studies.delivery.report import Report
from saltanvil.web.asking import TabQuestion
from saltanvil.web.jobs import Job, JobView
from saltanvil.web.services import Number, Served, Services, Ticket, answered

router = APIRouter(prefix="/api", tags=["delivery"])


class DeliveryRequest(BaseModel):
    """delivery: as the session has it, if it is not given; start_s, end_s: the passage, where that is what goes out."""

    delivery: Delivery | None = None
    start_s: float | None = Field(default=None, ge=0.0, le=1e6)
    end_s: float | None = Field(default=None, ge=0.0, le=1e6)
    report: bool = False


class FileNames(BaseModel):
    """bytes: about how large each becomes; muted: strips that sound in none; problem: why there are none."""

    names: list[str]
    bytes: list[int] = Field(default_factory=list)
    muted: list[str] = Field(default_factory=list)
    problem: str | None = None


class TimeQuestion(DeliveryRequest, TabQuestion):
    """How long a delivery will take."""


class BatchRequest(BaseModel):
    """Files of an import that was begun and sent are put through a strip's path instead. loudness_lufs: what each is brought
    to."""

    import_id: int = Field(ge=0, le=1 << 53)
    strip_id: Id = MAIN_ID
    format: FormatName = "wav24"
    loudness_lufs: float | None = Field(default=None, ge=-60.0, le=0.0)
    true_peak_dbtp: float = Field(default=-1.0, ge=-24.0, le=0.0)
    tail: bool = True


def today() -> str:
    return datetime.now().astimezone().strftime("%Y-%m-%d")


@router.post("/sessions/{session_id}/delivery/names")
def delivery_names(services: Served, session_id: Number, question: DeliveryRequest) -> FileNames:
    """What the files would be called."""
    session = services.sessions.version(session_id).session
    try:
        delivery = resolve_delivery(session, question.delivery)
        spans = spans_of(session, services.media.at_rate(session.rate_hz), delivery, question.start_s, question.end_s)
        files = files_of(session, delivery, spans, today())
    except (NotFound, ValueError) as error:
        return FileNames(names=[], problem=str(error))
    sizes = expected_bytes(session, delivery, files)
    return FileNames(names=[file.name for file in files], bytes=sizes, muted=left_out(session))


class ExpectedTime(BaseModel):
    seconds: float


@router.post("/sessions/{session_id}/delivery/time")
async def delivery_time(services: Served, request: Request, session_id: Number, question: TimeQuestion) -> ExpectedTime | None:
    """About how long the delivery takes: a few seconds are rendered. Answers null if the tab has asked again meanwhile."""
    ticket = services.ask(question.tab, "delivery time", question.number)
    return await answered(services, request, ticket, services.studies, time_answer, session_id, question)


def time_answer(services: Services, ticket: Ticket, session_id: int, question: TimeQuestion) -> ExpectedTime:
    session = services.sessions.version(session_id).session
    media = services.media.at_rate(session.rate_hz)
    delivery = resolve_delivery(session, question.delivery)
    try:
        spans = spans_of(session, media, delivery, question.start_s, question.end_s)
    except ValueError as error:
        raise HTTPException(422, str(error)) from error
    return ExpectedTime(seconds=expected_seconds(session, media, delivery, spans, ticket.superseded))


@router.post("/sessions/{session_id}/delivery/files", status_code=202)
def delivery_files(services: Served, session_id: Number, question: DeliveryRequest) -> JobView:
    """Render, convert, dither or encode, and read back: a job whose files can be fetched."""
    session = services.sessions.version(session_id).session
    media = services.media.at_rate(session.rate_hz)
    delivery = resolve_delivery(session, question.delivery)
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
                made_at = datetime.now(UTC).astimezone().strftime("%Y-%m-%d %H:%M %Z")
                report = Report(
                    session, delivery, done, made_at, contrast, playback(session, kept), kept.checked if kept else None, stale
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
    [contrast] = contrast_of(session, media, [Scope(MAIN_ID)], progress, job.cancelled, services.pool, services.contrasts)
    return contrast


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
        buffer = bytearray()

        def writable(self) -> bool:
            return True

        def write(self, data: object) -> int:
            self.buffer += memoryview(data)  # type: ignore[arg-type]
            return len(memoryview(data))  # type: ignore[arg-type]

        def taken(self) -> bytes:
            result = bytes(self.buffer)
            self.buffer.clear()
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
