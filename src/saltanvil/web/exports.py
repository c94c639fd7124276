"""Routes of export: render chosen strips to files, as a job."""

import re
import secrets
from collections.abc import Iterator
from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, HTTPException
from fastapi.responses import FileResponse
from pydantic import AfterValidator, BaseModel, Field

from saltanvil.engine.export import export_strips
from saltanvil.engine.time import session_frames
from saltanvil.media.encode import SUFFIX, FileFormat
from saltanvil.session.document import MAIN_ID
from saltanvil.studies.match import settled
from saltanvil.web.jobs import Job, JobView
from saltanvil.web.names import without_marks
from saltanvil.web.services import Number, Served

router = APIRouter(prefix="/api", tags=["exports"])


def each_once(strip_ids: list[str]) -> list[str]:
    twice = next((name for name in strip_ids if strip_ids.count(name) > 1), None)
    if twice is not None:
        raise ValueError(f"strip {twice!r} is named twice; name each once")
    return strip_ids


class ExportRequest(BaseModel):
    """No passage means everything. Solo is not rendered, mute is. tail: whether what sounds at the session's end may decay;
    a passage ends where it ends."""

    strip_ids: Annotated[list[str], AfterValidator(each_once)] = Field(
        default_factory=lambda: [MAIN_ID], min_length=1, max_length=200
    )
    start_s: float | None = Field(default=None, ge=0.0, le=1e6)
    end_s: float | None = Field(default=None, ge=0.0, le=1e6)
    format: FileFormat = "wav24"
    tail: bool = True


@router.post("/sessions/{session_id}/exports", status_code=202)
def export(services: Served, session_id: Number, question: ExportRequest) -> JobView:
    session = services.sessions.version(session_id).session
    media = services.media.at_rate(session.rate_hz)
    names = file_names(
        [f"{session.name} - {session.strip(strip_id).name}" for strip_id in question.strip_ids], SUFFIX[question.format]
    )
    length = session_frames(session, media)
    start = round((question.start_s or 0.0) * session.rate_hz)
    stop = length if question.end_s is None else min(round(question.end_s * session.rate_hz), length)
    if stop <= start:
        raise HTTPException(422, "the passage is empty or lies behind the end; choose another")
    folder = services.folder / "exports" / secrets.token_hex(8)

    def work(job: Job) -> None:
        folder.mkdir(parents=True)
        paths = [folder / str(index) for index in range(len(names))]
        targets = dict(zip(question.strip_ids, paths, strict=True))
        try:
            whole = settled(session, media, job.cancelled, services.pool)
            files = export_strips(
                whole, media, start, stop, targets, question.format, job.progress, job.cancelled, question.tail and stop == length
            )
        except BaseException:
            for path in paths:
                path.unlink(missing_ok=True)
            folder.rmdir()
            raise
        job.paths, job.files = paths, names
        warnings = [files[strip_id].warning(name) for strip_id, name in zip(targets, names, strict=True)]
        job.warnings = [text for text in warnings if text is not None]

    return services.jobs.start(session_id, "export", ", ".join(names)[:120], work).view()


@router.get("/exports/{number}/{index}", response_class=FileResponse)
def download(services: Served, number: Number, index: Number) -> FileResponse:
    job = services.jobs.get(number)
    if not 0 <= index < len(job.paths):
        raise HTTPException(404, "there is no such file; export again")
    path: Path = job.paths[index]
    return FileResponse(path, filename=job.files[index])


def file_names(titles: list[str], suffix: str) -> list[str]:
    """Titles as file names that any system takes, each once."""

    def plain() -> Iterator[str]:
        seen: set[str] = set()
        for title in titles:
            base = re.sub(r'[\x00-\x1f<>:"/\\|?*]', "_", without_marks(title)).strip(" .") or "export"
            name, number = base, 2
            while name.lower() in seen:
                name, number = f"{base} {number}", number + 1
            seen.add(name.lower())
            yield name + suffix

    return list(plain())
