"""Route that prints tracks: what leaves their paths becomes what they play, in one edit."""

from typing import Annotated

from fastapi import APIRouter
from pydantic import BaseModel, Field

from saltanvil.session.apply import AnyEdit
from saltanvil.session.document.base import MAX_STRIPS, Id
from saltanvil.session.edits.base import Batch, EditRefused
from saltanvil.session.edits.recordings import PrintStrip, check_printable
from saltanvil.studies.match.match import with_current_matches
from saltanvil.studies.printing import print_of
from saltanvil.web.jobs import Job, JobView
from saltanvil.web.services import Number, Served, Services

router = APIRouter(prefix="/api/sessions/{session_id}", tags=["media"])


class PrintQuestion(BaseModel):
    strip_ids: Annotated[list[Id], Field(min_length=1, max_length=MAX_STRIPS)]


@router.post("/print", status_code=202)
def print_tracks(services: Served, session_id: Number, question: PrintQuestion) -> JobView:
    """A job whose one edit lets tracks play what left their paths. Refused at once where one cannot be printed."""
    session = services.sessions.version(session_id).session
    strips = [session.strip(strip_id) for strip_id in dict.fromkeys(question.strip_ids)]
    for strip in strips:
        check_printable(session, strip)
    title = strips[0].name if len(strips) == 1 else f"{len(strips)} tracks"
    names = [strip.id for strip in strips]
    return services.jobs.start(session_id, "print", title, lambda job: printed(services, session_id, names, job)).view()


def printed(services: Services, session_id: int, strip_ids: list[str], job: Job) -> None:
    """Raises NotFound, EditRefused, Cancelled, StoreError; nothing of it remains then."""
    session = services.sessions.version(session_id).session
    media = services.media.at_rate(session.rate_hz)
    current = with_current_matches(session, media, job.cancelled)
    edits: list[AnyEdit] = []
    try:
        for place, strip_id in enumerate(strip_ids):
            strip = session.strip(strip_id)
            result = print_of(current, media, strip_id, job.cancelled)

            def progress(fraction: float, place: int = place) -> None:
                job.progress((place + fraction) / len(strip_ids))

            media_id = services.media.add(
                f"{strip.name}, printed", "wav float", session.rate_hz, result.channels, result.blocks, session.rate_hz,
                result.frames, progress, job.cancelled,
            )  # fmt: skip
            edits.append(PrintStrip(strip_id=strip_id, media_id=media_id, channels=result.entering))
        now = services.sessions.version(session_id).session
        for strip_id in strip_ids:
            if now.strip(strip_id) not in (session.strip(strip_id), current.strip(strip_id)):  # or a match came meanwhile
                raise EditRefused(f"{session.strip(strip_id).name!r} was changed while it was printed; print it again")
        services.edit(session_id, edits[0] if len(edits) == 1 else Batch(edits=edits))
    except BaseException:
        used = {media_id for strip in services.sessions.version(session_id).session.strips for media_id in strip.media_ids()}
        for edit in edits:
            if isinstance(edit, PrintStrip) and edit.media_id not in used:
                services.media.drop(edit.media_id)
        raise
