"""Routes of media: import and waveforms."""

import asyncio
import secrets
from pathlib import Path, PurePosixPath
from typing import Annotated

from fastapi import APIRouter, HTTPException, Query, Request, Response

from saltanvil.session.document import Strip
from saltanvil.session.edits import AddStrip
from saltanvil.web.exports import without_marks
from saltanvil.web.jobs import Job, JobView
from saltanvil.web.services import Number, Served

router = APIRouter(prefix="/api", tags=["media"])


@router.post("/sessions/{session_id}/media", status_code=202)
async def import_media(
    services: Served, request: Request, session_id: Number, name: Annotated[str, Query(min_length=1, max_length=255)]
) -> JobView:
    """The body is the file itself. Answers with the job that reads it; when done, the session has a new track."""
    session = (await asyncio.to_thread(services.sessions.version, session_id)).session
    shown = without_marks(PurePosixPath(name.replace("\\", "/")).name) or "file"
    path = services.folder / "uploads" / secrets.token_hex(12)
    try:
        with path.open("wb") as file:
            async for part in request.stream():
                await asyncio.to_thread(file.write, part)
    except OSError as error:
        path.unlink(missing_ok=True)
        raise HTTPException(507, f"{shown}: could not be stored ({error.strerror}); free some space") from error
    except BaseException:
        path.unlink(missing_ok=True)
        raise

    def work(job: Job) -> None:
        try:
            media_id = services.media.import_file(path, shown, session.rate_hz, job.progress, job.cancelled)
        finally:
            path.unlink(missing_ok=True)
        strip = Strip(name=(Path(shown).stem or shown)[:120], kind="track", media_id=media_id)
        try:
            services.edit(session_id, AddStrip(strip=strip))
        except BaseException:
            services.media.drop(media_id)
            raise

    return services.jobs.start(session_id, "import", shown, work).view()


@router.get("/media/{media_id}/waveform", response_class=Response)
def waveform(services: Served, media_id: Number, bin_frames: Annotated[int, Query(ge=1, le=1 << 24)] = 4096) -> Response:
    """float32, little endian: the lowest values of all bins, then the highest, then the mean squares."""
    return Response(services.media.pyramid(media_id, bin_frames).astype("<f4").tobytes(), media_type="application/octet-stream")


@router.get("/sessions/{session_id}/jobs")
def list_jobs(services: Served, session_id: Number) -> list[JobView]:
    return [job.view() for job in services.jobs.of_session(session_id)]


@router.delete("/jobs/{number}", status_code=204)
def cancel_job(services: Served, number: Number) -> None:
    services.jobs.get(number).cancel()
