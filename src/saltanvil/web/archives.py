"""Routes of session files: a session with its sound packed into one file, and made of one."""

import asyncio
import secrets
from typing import Annotated

from fastapi import APIRouter, Query, Request

from saltanvil.media.names import file_name
from saltanvil.store.archive import pack, unpack
from saltanvil.web.delivered_files import all_or_nothing
from saltanvil.web.imports import stored
from saltanvil.web.jobs import Job, JobView
from saltanvil.web.services import Number, Served
from saltanvil.web.uploads import shown_name

router = APIRouter(prefix="/api", tags=["session files"])


@router.post("/sessions/{session_id}/archive", status_code=202)
def pack_session(services: Served, session_id: Number) -> JobView:
    """Pack a session: a job whose file can be fetched."""
    session = services.sessions.version(session_id).session
    folder = services.folder / "exports" / secrets.token_hex(8)
    names = [file_name(session.name, ".zip")]

    def work(job: Job) -> None:
        with all_or_nothing(folder):
            path = folder / "session"
            pack(session, services.media, path, job.progress, job.cancelled)
            job.paths, job.files = [path], names

    return services.jobs.start(session_id, "pack", names[0], work).view()


@router.post("/archives", status_code=202)
async def unpack_session(
    services: Served, request: Request, name: Annotated[str, Query(min_length=1, max_length=255)]
) -> JobView:
    """Make a session of an archive; the body is the file itself. The job's `session_id` is that of the session once it is
    done."""
    shown = shown_name(name)
    path = await stored(services, request, shown)

    def work(job: Job) -> None:
        try:
            job.session_id = unpack(
                path, shown, services.sessions, services.media, services.folder / "uploads", job.progress, job.cancelled
            )
        finally:
            path.unlink(missing_ok=True)

    return (await asyncio.to_thread(services.jobs.start, 0, "unpack", shown, work)).view()
