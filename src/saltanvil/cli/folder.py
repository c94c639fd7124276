"""`check`, `backup`, `restore`, `pack`, `unpack`: the folder of sessions."""

import argparse
import contextlib
import sys
from collections.abc import Callable, Iterator

from tqdm import tqdm

from saltanvil.cli.errors import Refused
from saltanvil.cli.files import existing
from saltanvil.media.encode import whole_or_none
from saltanvil.session.document.session import Session, Strip
from saltanvil.store.archive import ArchiveError, pack, unpack
from saltanvil.store.copies import back_up, findings, reading, restore_documents
from saltanvil.store.database import Database
from saltanvil.store.folder import DataFolder
from saltanvil.store.media import MediaStore
from saltanvil.store.sessions import SessionStore


def run_check(request: argparse.Namespace) -> None:
    wrong = 0
    for finding in findings(request.data):
        wrong += finding.wrong
        print(f"{'wrong: ' if finding.wrong else ''}{finding.text}")
    if wrong:
        raise Refused(
            f"{request.data}: {wrong} faults; put a copy in its place, or bring single sessions back with `saltanvil restore`"
        )
    print("no fault found")


def run_backup(request: argparse.Namespace) -> None:
    print(f"{request.output}: {back_up(request.data, request.output) / (1 << 20):.1f} MiB")


def run_restore(request: argparse.Namespace) -> None:
    copy = existing(request.copy)
    with DataFolder(request.data) as folder, Database(folder.database) as database:
        for name in restore_documents(database, copy):
            print(name)


def run_pack(request: argparse.Namespace) -> None:
    if not request.output.parent.is_dir():
        raise Refused(f"{request.output.parent}: there is no such folder to write to; make it first")
    # Reading needs no lock, migrating does.
    with reading(request.data) as database:
        session = session_named(SessionStore(database), request.session)
        with whole_or_none(request.output) as part, progress_bar("Packing") as progress:
            pack(session, MediaStore(database), part, progress)
    print(request.output)


def run_unpack(request: argparse.Namespace) -> None:
    archive = existing(request.archive)
    with DataFolder(request.data) as folder, Database(folder.database) as database:
        sessions = SessionStore(database)
        try:
            with progress_bar("Unpacking") as progress:
                number = unpack(archive, archive.name, sessions, MediaStore(database), request.data, progress)
        except ArchiveError as error:
            raise Refused(str(error)) from error
        print(f"{number}  {sessions.version(number).session.name}")


def session_named(sessions: "SessionStore", name: str) -> "Session":
    """Raises Refused with those there are."""
    return sessions.version(number_of(sessions, name)).session


def number_of(sessions: "SessionStore", name: str) -> int:
    """The number of a session by its name or by that. Raises Refused with those there are."""
    rows = [row for row in sessions.listed() if not row.deleted]
    chosen = [row for row in rows if name in (row.name, str(row.id))]
    if not chosen:
        raise Refused(f"there is no session {name!r}; there are {', '.join(row.name for row in rows) or 'none'}")
    return chosen[0].id


def strip_named(session: "Session", name: str) -> "Strip":
    """Raises Refused with those there are."""
    named = [strip for strip in session.strips if strip.name == name]
    if not named:
        raise Refused(f"{session.name} has no strip {name!r}; it has {', '.join(strip.name for strip in session.strips)}")
    if len(named) > 1:
        raise Refused(f"{session.name} has {len(named)} strips called {name!r}; give them names of their own first")
    return named[0]


@contextlib.contextmanager
def progress_bar(what: str) -> Iterator[Callable[[float], None]]:
    """A bar where someone watches, told the fraction that is done, from 0 to 1."""
    with tqdm(total=100, desc=what, unit="%", disable=not sys.stderr.isatty(), leave=False) as bar:
        yield lambda fraction: bar.update(100.0 * fraction - bar.n) and None
