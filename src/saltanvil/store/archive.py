"""A session as one file: a zip of its document, its media as FLAC or float WAV, and a readme.

    session.json   what the archive is, the document with the version of its format, and the media with checksums
    media/1.flac   exact to the sample: 24-bit whole numbers where they hold every sample, 32-bit float WAV where not
    README.txt

Of a file from outside nothing is believed: names are never used as paths, sizes are bounded before anything is read, and every
sample is checked.
"""

import contextlib
import errno
import hashlib
import json
import re
import shutil
import struct
import tempfile
import zipfile
import zlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

import numpy as np
import soundfile
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from saltanvil.engine.render import Cancelled
from saltanvil.errors import UserError, reason
from saltanvil.media.decode import MAX_RATE, MAX_S, MIN_RATE, MediaError, open_audio
from saltanvil.media.encode import WAV_LIMIT_BYTES
from saltanvil.session.document.base import MAX_STRIPS
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.format import Unreadable, read_session, written
from saltanvil.store.database import StoreError
from saltanvil.store.media import MediaRow, MediaStore
from saltanvil.store.sessions import SessionStore

Audio = NDArray[np.float32]
#: Version of the archive itself; the document inside has one of its own.
ARCHIVE = 1
DOCUMENT, README = "session.json", "README.txt"
MEMBER = re.compile(r"media/[0-9]{1,4}\.(flac|wav)")
#: Of the document's text, and of all sound once it is unpacked.
MAX_DOCUMENT_BYTES, MAX_SOUND_BYTES = 64 << 20, 64 << 30
#: A file of sound is never larger than its samples by more than this.
HEADER_BYTES = 1 << 20
#: Left on the disk besides what is unpacked.
SPARE_BYTES = 64 << 20
BLOCK_FRAMES = 1 << 16
README_TEXT = """Salt Anvil session archive

{name}

session.json  the session: strips, paths, settings, sections, envelopes, levers, slots, delivery
media/        its sound, exact to the sample, in open formats (FLAC, or WAV with 32-bit float)

Open it with:  saltanvil unpack FILE
The history of edits is not in it.
"""


class ArchiveError(UserError, ValueError):
    """An archive that cannot be used; the message names it and says why and what to do."""


class ArchivedMedia(BaseModel):
    """Sound of the archive. sha256: of its samples, 32-bit float, frame by frame, little endian."""

    model_config = ConfigDict(extra="ignore")

    id: int = Field(ge=0)
    name: str = Field(max_length=255)
    format: str = Field(max_length=120)
    rate_hz: int = Field(ge=MIN_RATE, le=MAX_RATE)
    channels: int = Field(ge=1, le=2)
    frames: int = Field(ge=1, le=MAX_S * MAX_RATE)
    file: str = Field(pattern=f"^{MEMBER.pattern}$")
    sha256: str = Field(pattern="^[0-9a-f]{64}$")

    @property
    def sound_bytes(self) -> int:
        return 4 * self.channels * self.frames


class Contents(BaseModel):
    """What session.json holds."""

    model_config = ConfigDict(extra="ignore")

    archive: int = Field(ge=1)
    name: str = Field(min_length=1, max_length=120)
    document: dict[str, Any]
    media: list[ArchivedMedia] = Field(max_length=MAX_STRIPS)


# ---- packing ---------------------------------------------------------------------------------------------------------------


def samples_of(media: MediaStore, row: MediaRow) -> Iterator[Audio]:
    """Its sound as it was imported, (channels, frames)."""
    sound = media.at_rate(row.rate_hz)
    for at in range(0, row.frames, BLOCK_FRAMES):
        yield sound.read(row.id, at, min(BLOCK_FRAMES, row.frames - at))


def whole_numbers(blocks: Iterator[Audio]) -> bool:
    """Whether 24-bit whole numbers hold every sample exactly."""
    for block in blocks:
        steps = block.astype(np.float64) * (1 << 23)
        if steps.size and (not np.array_equal(steps, np.rint(steps)) or steps.min() < -(1 << 23) or steps.max() >= 1 << 23):
            return False
        if np.signbit(block[block == 0.0]).any():  # whole numbers know no negative zero
            return False
    return True


def pack(
    session: Session,
    media: MediaStore,
    target: Path,
    progress: Callable[[float], None] = lambda share: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> None:
    """Write an archive of a session; what could not be completed is the caller's to remove. Raises Cancelled, OSError,
    NotFound."""
    ids = list(dict.fromkeys(media_id for strip in session.strips for media_id in strip.media_ids()))
    rows = [media.row(media_id) for media_id in ids]
    whole = sum(row.frames * row.channels for row in rows) or 1
    done = 0
    entries: list[dict[str, Any]] = []
    with (
        zipfile.ZipFile(target, "w", zipfile.ZIP_STORED, allowZip64=True) as archive,
        tempfile.TemporaryDirectory(dir=target.parent, prefix=".pack-") as folder,
    ):
        for number, row in enumerate(rows, 1):
            exact = whole_numbers(samples_of(media, row))
            name = f"media/{number}.{'flac' if exact else 'wav'}"
            part = Path(folder) / "sound"
            digest = hashlib.sha256()
            size = 4 * row.channels * row.frames
            container = "FLAC" if exact else "RF64" if size > WAV_LIMIT_BYTES else "WAV"
            subtype = "PCM_24" if exact else "FLOAT"
            with soundfile.SoundFile(str(part), "w", row.rate_hz, row.channels, subtype, format=container) as file:
                for block in samples_of(media, row):
                    if cancelled():
                        raise Cancelled
                    frames = np.ascontiguousarray(block.T)
                    digest.update(frames.astype("<f4", copy=False).tobytes())
                    file.write(np.rint(frames.astype(np.float64) * (1 << 23)).astype(np.int32) << 8 if exact else frames)
                    done += block.size
                    progress(min(done / whole, 1.0))
            archive.write(part, name)
            entries.append(
                {
                    "id": row.id, "name": row.name, "format": row.format, "rate_hz": row.rate_hz, "channels": row.channels,
                    "frames": row.frames, "file": name, "sha256": digest.hexdigest(),
                }
            )  # fmt: skip
        contents = {"archive": ARCHIVE, "name": session.name, "document": json.loads(written(session)), "media": entries}
        archive.writestr(DOCUMENT, json.dumps(contents, indent=1), zipfile.ZIP_DEFLATED)
        archive.writestr(README, README_TEXT.format(name=session.name), zipfile.ZIP_DEFLATED)


# ---- unpacking -------------------------------------------------------------------------------------------------------------


@contextlib.contextmanager
def refusing(name: str) -> Iterator[None]:
    """What is wrong with a file, in words."""
    damaged = f"{name}: the archive is damaged"
    try:
        yield
    except (ArchiveError, StoreError):
        raise
    except MediaError as error:
        raise ArchiveError(f"{damaged} ({error}); get it again") from error
    except Unreadable as error:
        raise ArchiveError(f"{name}: {error}") from error
    except ValidationError as error:
        raise ArchiveError(f"{damaged} ({reason(error)}); get it again") from error
    except (zipfile.BadZipFile, zlib.error, EOFError, struct.error, KeyError, ValueError, OverflowError, RuntimeError) as error:
        raise ArchiveError(f"{damaged} ({' '.join(str(error).split())[:200]}); get it again") from error
    except OSError as error:
        if error.errno == errno.EINVAL:  # a place in the file that cannot be
            raise ArchiveError(f"{damaged}; get it again") from error
        raise


def contents_of(archive: zipfile.ZipFile, name: str) -> tuple[Contents, Session]:
    """What an archive says it holds, checked before anything of it is unpacked. Raises ArchiveError."""
    infos = archive.infolist()
    for info in infos:
        known = info.filename in (DOCUMENT, README) or MEMBER.fullmatch(info.filename) is not None
        if not known:
            raise ArchiveError(f"{name}: this is no session archive: it holds {info.filename[:80]!r}, which has no place in one")
        if info.flag_bits & 1:
            raise ArchiveError(f"{name}: it is encrypted; pack it again without a password")
    if len({info.filename for info in infos}) != len(infos):
        raise ArchiveError(f"{name}: the archive is damaged (a file is in it twice); get it again")
    if DOCUMENT not in archive.namelist():
        raise ArchiveError(f"{name}: this is no session archive: it has no {DOCUMENT}")
    with archive.open(DOCUMENT) as file:
        text = file.read(MAX_DOCUMENT_BYTES + 1)
    if len(text) > MAX_DOCUMENT_BYTES:
        raise ArchiveError(f"{name}: its {DOCUMENT} is larger than {MAX_DOCUMENT_BYTES >> 20} MiB; it is not a session")
    try:
        data = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise ArchiveError(f"{name}: the archive is damaged ({DOCUMENT} is not JSON text); get it again") from error
    version = data.get("archive") if isinstance(data, dict) else None
    if isinstance(version, int) and not isinstance(version, bool) and version > ARCHIVE:
        raise ArchiveError(
            f"{name}: it was packed by a newer Salt Anvil (archive {version}; this one reads up to {ARCHIVE}); update it to open "
            "this"
        )
    contents = Contents.model_validate(data)
    session, _ = read_session(json.dumps(contents.document), contents.name)
    used = {media_id for strip in session.strips for media_id in strip.media_ids()}
    there = [entry.id for entry in contents.media]
    if used - set(there) or len(set(there)) != len(there) or len({entry.file for entry in contents.media}) != len(there):
        raise ArchiveError(f"{name}: the archive is damaged (a track's sound is missing in it); get it again")
    for entry in contents.media:
        info = archive.getinfo(entry.file)
        if info.compress_type != zipfile.ZIP_STORED or info.file_size > entry.sound_bytes + HEADER_BYTES:
            raise ArchiveError(f"{name}: the archive is damaged ({entry.file} has another size than it says); get it again")
    if sum(entry.sound_bytes for entry in contents.media) > MAX_SOUND_BYTES:
        raise ArchiveError(f"{name}: it holds more than {MAX_SOUND_BYTES >> 30} GiB of sound, which no session does")
    return contents, session


@dataclass
class ChecksummedSound:
    """Sound on its way in, with a checksum of what came."""

    entry: ArchivedMedia
    name: str
    blocks: Iterator[Audio]

    def __iter__(self) -> Iterator[Audio]:
        digest, frames = hashlib.sha256(), 0
        for block in self.blocks:
            frames += block.shape[1]
            if frames > self.entry.frames:
                break
            digest.update(np.ascontiguousarray(block.T).astype("<f4", copy=False).tobytes())
            yield block
        if frames != self.entry.frames or digest.hexdigest() != self.entry.sha256:
            raise ArchiveError(f"{self.name}: the archive is damaged (the sound of {self.entry.name!r} is another); get it again")


def unpack(
    source: Path | IO[bytes],
    name: str,
    sessions: SessionStore,
    media: MediaStore,
    folder: Path,
    progress: Callable[[float], None] = lambda share: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> int:
    """Make a session of an archive; its number. name: what the file is called; folder: for its sound on the way.

    All or nothing. Raises ArchiveError, ImportCancelled, StoreError, OSError.
    """
    taken: dict[int, int] = {}
    try:
        with refusing(name), zipfile.ZipFile(source) as archive:
            contents, session = contents_of(archive, name)
            needed = sum(entry.sound_bytes for entry in contents.media) + SPARE_BYTES
            free = shutil.disk_usage(folder).free
            if needed > free:
                raise ArchiveError(
                    f"{name}: its sound needs {needed / (1 << 30):.1f} GiB and {free / (1 << 30):.1f} are free; free some space"
                )
            whole = sum(entry.sound_bytes for entry in contents.media) or 1
            done = 0
            for entry in contents.media:

                def part(fraction: float, done: int = done, size: int = entry.sound_bytes) -> None:
                    progress(min(1.0, (done + fraction * size) / whole))

                taken[entry.id] = imported(archive, entry, name, session.rate_hz, media, folder, part, cancelled)
                done += entry.sound_bytes
        strips = [renumbered(strip, taken) for strip in session.strips]
        return sessions.create(session.model_copy(update={"strips": strips, "name": sessions.free_name(session.name)}))
    except BaseException:
        for media_id in taken.values():
            media.drop(media_id)
        raise


def renumbered(strip: Strip, taken: dict[int, int]) -> Strip:
    """With the numbers that its media have here."""
    if strip.media_id is None:
        return strip
    printed = strip.printed
    return strip.model_copy(
        update={
            "media_id": taken[strip.media_id],
            "printed": None if printed is None else printed.model_copy(update={"media_id": taken[printed.media_id]}),
        }
    )


def imported(
    archive: zipfile.ZipFile,
    entry: ArchivedMedia,
    name: str,
    rate_hz: int,
    media: MediaStore,
    folder: Path,
    progress: Callable[[float], None],
    cancelled: Callable[[], bool],
) -> int:
    """One file of sound, into the store; its number there."""
    with tempfile.NamedTemporaryFile(dir=folder, prefix="unpack-") as part:
        with archive.open(entry.file) as file:
            shutil.copyfileobj(file, part, 1 << 20)
        part.flush()
        source = open_audio(Path(part.name), entry.file)
        if (source.rate, source.channels) != (entry.rate_hz, entry.channels):
            raise ArchiveError(f"{name}: the archive is damaged (the sound of {entry.name!r} is another); get it again")
        blocks = iter(ChecksummedSound(entry, name, source.blocks))
        return media.add(
            entry.name, entry.format, entry.rate_hz, entry.channels, blocks, rate_hz, entry.frames, progress, cancelled
        )
