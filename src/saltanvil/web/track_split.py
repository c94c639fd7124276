"""Route that makes two mono tracks of a stereo one, as where two files were joined that do not belong together."""

from collections.abc import Iterator

import numpy as np
from fastapi import APIRouter

from saltanvil.engine.media import Media
from saltanvil.media.decode import Audio
from saltanvil.session.document.base import new_id
from saltanvil.session.document.path import Path
from saltanvil.session.document.session import Strip
from saltanvil.session.edits.base import Batch, EditRefused
from saltanvil.session.edits.copies import names_from, with_new_ids
from saltanvil.session.edits.strips import AddStrip, RemoveStrip
from saltanvil.web.jobs import Job, JobView
from saltanvil.web.services import Number, Served, Services

router = APIRouter(prefix="/api/sessions/{session_id}", tags=["media"])

BLOCK_FRAMES = 1 << 18
SIDES = (("L", -1.0), ("R", 1.0))


@router.post("/strips/{strip_id}/split", status_code=202)
def split_track(services: Served, session_id: Number, strip_id: str) -> JobView:
    """A job whose one edit puts the left and the right side, each a track panned to its side, in the place of a stereo track."""
    strip = services.sessions.version(session_id).session.strip(strip_id)
    if strip.media_id is None or services.media.row(strip.media_id).channels != 2:
        raise EditRefused(f"{strip.name!r} is no stereo track; only a stereo track can be split into two")
    if strip.printed is not None:
        raise EditRefused(f"{strip.name!r} is printed: two tracks could not be unprinted; unprint it first")
    return services.jobs.start(session_id, "import", strip.name, lambda job: made_of(services, session_id, strip_id, job)).view()


def made_of(services: Services, session_id: int, strip_id: str, job: Job) -> None:
    """Raises NotFound, EditRefused, ImportCancelled, StoreError; nothing of it remains then."""
    session = services.sessions.version(session_id).session
    strip = session.strip(strip_id)
    assert strip.media_id is not None
    row = services.media.row(strip.media_id)
    media = services.media.at_rate(row.rate_hz)
    sides: list[Strip] = []
    try:
        for place, (name, pan) in enumerate(SIDES):

            def progress(fraction: float, place: int = place) -> None:
                job.progress((place + fraction) / len(SIDES))

            media_id = services.media.add(
                f"{row.name}, {name}", row.format, row.rate_hz, 1, side_of(media, row.id, place), session.rate_hz, row.frames,
                progress, job.cancelled,
            )  # fmt: skip
            sides.append(side_strip(strip, f"{strip.name[:110]} {name}", media_id, pan))
        index = next(place for place, other in enumerate(session.strips) if other.id == strip_id)
        added = [AddStrip(strip=side, index=index + place) for place, side in enumerate(sides)]
        services.edit(session_id, Batch(edits=[*added, RemoveStrip(strip_id=strip_id)]))
    except BaseException:
        present = {other.media_id for other in services.sessions.version(session_id).session.strips}
        for side in sides:
            if side.media_id is not None and side.media_id not in present:
                services.media.drop(side.media_id)
        raise


def side_of(media: Media, media_id: int, side: int) -> Iterator[Audio]:
    frames = media.frames(media_id)
    for at in range(0, frames, BLOCK_FRAMES):
        yield np.ascontiguousarray(media.read(media_id, at, min(BLOCK_FRAMES, frames - at))[side : side + 1])


def side_strip(strip: Strip, name: str, media_id: int, pan: float) -> Strip:
    """The track of one side: steps and sends are copies; levers are left behind, as each moves one path only."""
    names = names_from(new_id())
    sends = [send.model_copy(update={"id": next(names)}) for send in strip.sends]
    path = Path(steps=with_new_ids(strip.path.steps, names))
    changes = {"id": new_id(), "name": name, "media_id": media_id, "pan": pan, "path": path, "sends": sends}
    return strip.model_copy(update=changes, deep=True)
