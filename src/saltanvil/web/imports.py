"""Routes of imports: files are announced and sent, then become tracks in one edit; what belongs together is proposed.

    POST imports        the names, in the order they were given
    PUT  imports/n/k    the bytes of file k; refused at once if it cannot be read
    POST imports/n      everything that is there becomes tracks: a job with progress, one edit at its end
    GET  imports/n      what was made of it, and what is proposed: buses, times, sections, tempo

As long as a session has no sound, it takes the rate that most of the files have, if that is asked for.
"""

import asyncio
import logging
import math
import secrets
from collections.abc import Callable
from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, HTTPException, Query, Request

from saltanvil.media.decode import EXACT, MediaError, Source, format_words, open_audio
from saltanvil.media.decode import joined as joined_sides
from saltanvil.media.disk import what_failed
from saltanvil.media.markers import wav_markers
from saltanvil.media.midi import MAX_MIDI_BYTES, midi_markers
from saltanvil.session.apply import AnyEdit
from saltanvil.session.document.base import NotFound
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.edits.base import Batch
from saltanvil.session.edits.recordings import ReplaceMedia, check_replaceable
from saltanvil.session.edits.strips import AddStrip, SetRate
from saltanvil.session.importing import pairs, track_names, without_side
from saltanvil.store.media import MediaRow
from saltanvil.studies.importing.files import MIDI, Sent, loudest_bars, proposals, rate_of
from saltanvil.studies.replacing import differences
from saltanvil.web.jobs import Job, JobView
from saltanvil.web.services import Number, Served, Services
from saltanvil.web.uploads import Import, ImportedFile, ImportView, NewImport

router = APIRouter(prefix="/api/sessions/{session_id}", tags=["media"])

log = logging.getLogger(__name__)
#: Frames a bin of the power that is looked through for the loudest bars.
POWER_BINS = 4096


async def stored(services: Services, request: Request, name: str) -> Path:
    """The body of a request, in a file of its own."""
    path = services.folder / "uploads" / secrets.token_hex(12)
    room = MAX_MIDI_BYTES if name.lower().endswith(MIDI) else math.inf
    try:
        with path.open("wb") as file:
            async for part in request.stream():
                room -= len(part)
                if room < 0:
                    raise HTTPException(
                        413,
                        f"{name}: a MIDI file has at most {MAX_MIDI_BYTES >> 20} MiB; export its tempo and markers without notes",
                    )
                await asyncio.to_thread(file.write, part)
    except OSError as error:
        path.unlink(missing_ok=True)
        raise HTTPException(507, f"{name}: {what_failed(error)}") from error
    except BaseException:
        path.unlink(missing_ok=True)
        raise
    return path


def look_at(sent: Sent, path: Path) -> None:
    """Note what a file says of itself. Raises MediaError."""
    if sent.midi:
        sent.markers = midi_markers(path, sent.name)
    else:
        source = open_audio(path, sent.name)
        sent.rate, sent.channels, sent.frames, sent.format = source.rate, source.channels, source.frames, source.format
        sent.markers = wav_markers(path, source.rate)
    sent.path = path


@router.post("/imports", status_code=201)
def new_import(services: Served, session_id: Number, question: NewImport) -> ImportView:
    session = services.sessions.version(session_id).session
    if question.replaces is not None:
        check_replaceable(session.strip(question.replaces))
    return services.imports.begin(session_id, question).view


@router.put("/imports/{number}/{place}", status_code=204)
async def send_file(services: Served, request: Request, session_id: Number, number: Number, place: Number) -> None:
    """The body is the file itself."""
    result = services.imports.get(session_id, number)
    if place >= len(result.files):
        raise NotFound(f"this import has {len(result.files)} files; there is none at {place}")
    sent = result.files[place]
    path = await stored(services, request, sent.name)
    sent.drop()  # if it was sent before
    try:
        await asyncio.to_thread(look_at, sent, path)
    except MediaError as error:
        path.unlink(missing_ok=True)
        sent.problem = str(error)
        raise HTTPException(422, str(error)) from error


@router.post("/imports/{number}", status_code=202)
def finish_import(services: Served, session_id: Number, number: Number) -> JobView:
    """Make tracks of all files that are there."""
    result = services.imports.get(session_id, number)
    return started(services, result).view()


@router.get("/imports/{number}")
def import_view(services: Served, session_id: Number, number: Number) -> ImportView:
    return services.imports.get(session_id, number).view


@router.delete("/imports/{number}", status_code=204)
def drop_import(services: Served, session_id: Number, number: Number) -> None:
    """Forget files that were sent."""
    services.imports.get(session_id, number).discard()


@router.post("/media", status_code=202)
async def import_media(
    services: Served, request: Request, session_id: Number, name: Annotated[str, Query(min_length=1, max_length=255)]
) -> JobView:
    """One file as an import of its own; the body is the file itself."""
    await asyncio.to_thread(services.sessions.version, session_id)
    result = services.imports.begin(session_id, NewImport(names=[name]))
    sent = result.files[0]
    path = sent.path = await stored(services, request, sent.name)

    def look() -> None:
        look_at(sent, path)

    return (await asyncio.to_thread(started, services, result, look)).view()


def started(services: Services, result: Import, look: Callable[[], None] = lambda: None) -> Job:
    """look: what is still to be learnt of the files, in the job."""
    title = result.files[0].name if len(result.files) == 1 else f"{len(result.files)} files"

    def work(job: Job) -> None:
        try:
            look()
            if result.replaces is not None:
                replaced(services, result, result.replaces, job)
            else:
                made_tracks(services, result, job)
        finally:
            result.discard()

    return services.jobs.start(result.session_id, "import", title, work)


def made_tracks(services: Services, result: Import, job: Job) -> None:
    """Read the files and add the tracks in one edit. Raises MediaError if none could be taken."""
    session = services.sessions.version(result.session_id).session
    files = result.sound_files()
    empty = all(strip.media_id is None for strip in session.strips)
    rate = rate_of(files) if result.rate == "files" and empty and files else session.rate_hz
    names = track_names([sent.stem for sent in files])
    sides = pairs([sent.stem for sent in files], [sent.channels == 1 for sent in files])
    right = set(sides.values())
    strips: list[Strip] = []
    made_of: list[Sent] = []
    taken: list[int] = []
    expected = sum(max(1, sent.frames) for sent in files) or 1
    done = 0
    try:
        for place, sent in enumerate(files):
            if place in right:
                continue
            other = files[sides[place]] if place in sides else None
            size = max(1, sent.frames) + (max(1, other.frames) if other else 0)

            def progress(fraction: float, begun: int = done, size: int = size) -> None:
                job.progress(min(1.0, (begun + fraction * size) / expected))

            try:
                media_id = services.media.import_source(opened(sent, other), rate, progress, job.cancelled)
            except MediaError as error:
                sent.problem = str(error)
                continue
            finally:
                done += size
            taken.append(media_id)
            name = without_side(names[place]) if other else names[place]
            strips.append(Strip(name=name[:120], kind="track", media_id=media_id))
            made_of.append(sent)
        problems = [sent.problem for sent in result.files if sent.problem]
        if not strips and files:
            raise (
                MediaError(*problems[0].split(": ", 1))
                if len(problems) == 1
                else MediaError("None of the files", "; ".join(problems))
            )
        edits: list[AnyEdit] = [SetRate(rate_hz=rate)] if rate != session.rate_hz else []
        edits += [AddStrip(strip=strip) for strip in strips]
        if edits:
            services.edit(result.session_id, edits[0] if len(edits) == 1 else Batch(edits=edits))
    except BaseException:
        kept = {strip.media_id for strip in services.sessions.version(result.session_id).session.strips}
        for media_id in taken:
            if media_id not in kept:
                services.media.drop(media_id)
        raise
    job.warnings = problems
    joined = {id(files[place]) for pair in sides.items() for place in pair}
    tracks = {id(sent): strip for sent, strip in zip(made_of, strips, strict=True)}
    for left_place, right_place in sides.items():
        if (strip := tracks.get(id(files[left_place]))) is not None:
            tracks[id(files[right_place])] = strip

    def line_of(sent: Sent) -> ImportedFile:
        strip = tracks.get(id(sent))
        row = services.media.row(strip.media_id) if strip is not None and strip.media_id is not None else None
        return imported(sent, strip, rate, id(sent) in joined, row)

    # The tracks are there: whatever goes wrong with what is proposed for them is no failure of the import.
    notes = [f"{sent.name}: {note}." for sent in result.files for note in sent.markers.notes]
    view = result.view = ImportView(
        id=result.number, files=[line_of(sent) for sent in result.files],
        strip_ids=[strip.id for strip in strips], problems=problems, notes=notes, proposals=[], passage_s=None,
    )  # fmt: skip
    try:
        session = services.sessions.version(result.session_id).session
        view.passage_s = passage_of(services, session, strips)
        view.proposals, left_out = proposals(session, strips, made_of, result.files)
        view.notes += left_out
    except Exception:
        log.exception("what the files of an import suggest")
        view.notes.append("What the files say of buses, times, sections and tempo could not be read; the tracks are complete.")


def replaced(services: Services, result: Import, strip_id: str, job: Job) -> None:
    """Let a track play the file that was sent, in one edit; what differs from the recording before is noted.

    Raises MediaError, EditRefused."""
    session = services.sessions.version(result.session_id).session
    strip, sent = session.strip(strip_id), result.files[0]
    if sent.path is None or sent.midi:
        raise MediaError(sent.name, sent.problem or "it is no sound; choose an audio file")
    rate = session.rate_hz
    media_id = services.media.import_source(opened(sent, None), rate, job.progress, job.cancelled)
    try:
        services.edit(result.session_id, ReplaceMedia(strip_id=strip_id, media_id=media_id))
    except BaseException:
        services.media.drop(media_id)
        raise
    notes = differences(services.media.at_rate(rate), rate, strip, media_id, sent.markers.time_reference_s)
    line = imported(sent, strip, rate, False, services.media.row(media_id)).model_copy(
        update={"becomes": f"what {strip.name} plays"}
    )
    result.view = ImportView(
        id=result.number, files=[line], strip_ids=[strip_id], problems=[], notes=notes, proposals=[], passage_s=None,
    )  # fmt: skip


def imported(sent: Sent, strip: Strip | None, rate: int, joined: bool, row: MediaRow | None) -> ImportedFile:
    """A line of what an import did. joined: it is one side of a stereo track; row: what is stored of it."""
    length_s = sent.frames / sent.rate if sent.frames else row.frames / row.rate_hz if row else 0.0
    changes = []
    if sent.rate and sent.rate != rate:
        changes.append(f"{sent.rate / 1000:g} kHz to {rate / 1000:g} kHz")
    if sent.format and sent.format.split()[0].upper() not in EXACT:
        changes.append(f"decoded from {format_words(sent.format)}")
    if strip is not None:
        becomes = f"{strip.name}, one side" if joined else strip.name
    else:
        becomes = "sections and tempo" if sent.midi and not sent.problem else f"not taken: {sent.problem or 'it was not sent'}"
    return ImportedFile(
        name=sent.name, format="MIDI" if sent.midi else format_words(sent.format), rate_hz=sent.rate, channels=sent.channels,
        length_s=length_s, start_s=sent.markers.time_reference_s, becomes=becomes,
        converted="; ".join(changes) or None, strip_id=None if strip is None else strip.id, joined=joined and strip is not None,
    )  # fmt: skip


def opened(sent: Sent, other: Sent | None) -> Source:
    assert sent.path is not None
    source = open_audio(sent.path, sent.name)
    if other is None:
        return source
    assert other.path is not None
    return joined_sides(source, open_audio(other.path, other.name), f"{without_side(sent.stem)}{Path(sent.name).suffix}")


def passage_of(services: Services, session: Session, strips: list[Strip]) -> tuple[float, float] | None:
    """What is to be heard first of the new tracks."""
    ids = [strip.media_id for strip in strips if strip.media_id is not None]
    if not ids:
        return None
    media = services.media.at_rate(session.rate_hz)
    squares = [services.media.pyramid(media_id, POWER_BINS)[2] for media_id in ids]
    length_s = max(media.frames(media_id) for media_id in ids) / session.rate_hz
    return loudest_bars(session, squares, POWER_BINS / session.rate_hz, length_s)
