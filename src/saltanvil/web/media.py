"""Routes of media: waveforms and what is known of a file; jobs."""

from typing import Annotated

import numpy as np
from fastapi import APIRouter, Query, Response
from pydantic import BaseModel

from saltanvil.dsp.units import gain_to_db
from saltanvil.measure.loudness import LoudnessMeter, integrated_lufs
from saltanvil.media.decode import format_words
from saltanvil.store.media import MediaRow
from saltanvil.web.jobs import JobView
from saltanvil.web.services import Number, Served, Services

router = APIRouter(prefix="/api", tags=["media"])

FACTS_FRAMES = 1 << 18


@router.get("/media/{media_id}/waveform", response_class=Response)
def waveform(services: Served, media_id: Number, bin_frames: Annotated[int, Query(ge=1, le=1 << 24)] = 4096) -> Response:
    """float32, little endian: the lowest values of all bins, then the highest, then the mean squares."""
    return Response(services.media.pyramid(media_id, bin_frames).astype("<f4").tobytes(), media_type="application/octet-stream")


class MediaFacts(BaseModel):
    """A file as it was imported. rate_hz: its own; loudness_lufs: integrated, None where there is nothing to measure."""

    id: int
    name: str
    format: str
    rate_hz: int
    channels: int
    length_s: float
    peak_dbfs: float
    loudness_lufs: float | None


@router.get("/media/{media_id}")
def facts(services: Served, media_id: Number) -> MediaFacts:
    """A file never changes: it is measured once."""
    row = services.media.row(media_id)
    result = services.media_facts.get(row)
    if result is None:
        result = services.media_facts[row] = facts_of(services, row)
    return result


def facts_of(services: Services, row: MediaRow) -> MediaFacts:
    meter = LoudnessMeter(row.rate_hz, row.channels)
    media, peak = services.media.at_rate(row.rate_hz), 0.0
    for at in range(0, row.frames, FACTS_FRAMES):
        services.wait_for_sound()
        block = media.read(row.id, at, min(FACTS_FRAMES, row.frames - at))
        meter.add(block)
        peak = max(peak, float(abs(block).max(initial=0.0)))
    loudness = integrated_lufs(np.asarray(meter.energies))
    return MediaFacts(
        id=row.id, name=row.name, format=format_words(row.format), rate_hz=row.rate_hz, channels=row.channels,
        length_s=row.frames / row.rate_hz, peak_dbfs=gain_to_db(peak), loudness_lufs=loudness if loudness > -200.0 else None,
    )  # fmt: skip


@router.get("/sessions/{session_id}/jobs")
def list_jobs(services: Served, session_id: Number) -> list[JobView]:
    return [job.view() for job in services.jobs.of_session(session_id)]


@router.get("/jobs/{number}")
def one_job(services: Served, number: Number) -> JobView:
    return services.jobs.get(number).view()


@router.delete("/jobs/{number}", status_code=204)
def cancel_job(services: Served, number: Number) -> None:
    services.jobs.get(number).cancel()
