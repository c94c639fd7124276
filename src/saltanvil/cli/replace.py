"""`saltanvil replace`: another recording for tracks of a session; and sessions with other recordings, for `render --with`."""

import argparse
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory

from saltanvil.cli.errors import Refused
from saltanvil.cli.files import existing, opened
from saltanvil.cli.folder import number_of, progress_bar, strip_named
from saltanvil.engine.media import Audio
from saltanvil.media.markers import wav_markers
from saltanvil.session.apply import apply
from saltanvil.session.document.session import Session
from saltanvil.session.edits.recordings import ReplaceMedia, check_replaceable
from saltanvil.store.database import Database
from saltanvil.store.folder import DataFolder
from saltanvil.store.media import MediaStore, RatedMedia
from saltanvil.store.sessions import SessionStore
from saltanvil.studies.replacing import differences, files_for

#: Media of new files are numbered from here on, beyond any that a store has.
FIRST_NEW = 1 << 52


def run_replace(request: argparse.Namespace) -> None:
    file = existing(request.file)
    source = opened(file)
    with DataFolder(request.data) as folder, Database(folder.database) as database:
        sessions, store = SessionStore(database), MediaStore(database)
        number = number_of(sessions, request.session)
        session = sessions.version(number).session
        strip = strip_named(session, request.strip)
        check_replaceable(strip)
        with progress_bar("Reading") as progress:
            media_id = store.import_source(source, session.rate_hz, progress)
        try:
            sessions.edit(number, ReplaceMedia(strip_id=strip.id, media_id=media_id))
        except BaseException:
            store.drop(media_id)
            raise
        print(f"{session.name}: {strip.name} plays {file.name}")
        for note in differences(
            store.at_rate(session.rate_hz), session.rate_hz, strip, media_id, wav_markers(file, source.rate).time_reference_s
        ):
            print(note)


@dataclass(frozen=True)
class WithNew:
    """The media of a session, and beside them those of new files."""

    old: RatedMedia
    new: RatedMedia

    renders = None

    def of(self, media_id: int) -> tuple[RatedMedia, int]:
        return (self.new, media_id - FIRST_NEW) if media_id >= FIRST_NEW else (self.old, media_id)

    def key(self, media_id: int) -> str:
        media, number = self.of(media_id)
        return media.key(number)

    def channels(self, media_id: int) -> int:
        media, number = self.of(media_id)
        return media.channels(number)

    def frames(self, media_id: int) -> int:
        media, number = self.of(media_id)
        return media.frames(number)

    def read(self, media_id: int, start: int, frames: int) -> Audio:
        media, number = self.of(media_id)
        return media.read(number, start, frames)


@contextmanager
def with_files(folder: Path, session: Session, store: MediaStore) -> Iterator[tuple[Session, WithNew, list[str]]]:
    """A session whose tracks play the files of a folder that are called like them, and their sound; and the tracks that play what
    they did. Nothing of it is kept. Raises Refused, MediaError."""
    if not folder.is_dir():
        raise Refused(f"{folder}: there is no such folder; name the one with the new files")
    files = sorted(file for file in folder.iterdir() if file.is_file() and not file.name.startswith("."))
    takes = files_for(session, files)
    if not takes:
        tracks = ", ".join(strip.name for strip in session.strips if strip.media_id is not None)
        raise Refused(f"{folder}: no file is called like a track of {session.name}; its tracks are {tracks or 'none'}")
    with TemporaryDirectory() as temporary, Database(Path(temporary) / "new.db") as database:
        new = MediaStore(database)
        for strip_id, file in takes.items():
            media_id = FIRST_NEW + new.import_source(opened(file), session.rate_hz)
            session = apply(session, ReplaceMedia(strip_id=strip_id, media_id=media_id))
        left = [strip.name for strip in session.strips if strip.media_id is not None and strip.id not in takes]
        yield session, WithNew(store.at_rate(session.rate_hz), new.at_rate(session.rate_hz)), left
