"""Copies of the data: a whole one by hand, the documents every day, and what is wrong with a folder."""

import json
import os
import sqlite3
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path

from saltanvil.session.format import Unreadable, read_session
from saltanvil.store.database import (
    DOCUMENTS,
    Database,
    ReadOnlyDatabase,
    StoreError,
    check_file,
    outdated,
    read_only,
    refusal,
)
from saltanvil.store.folder import COPIES, DATABASE, DataFolder
from saltanvil.store.media import CHUNK_FRAMES
from saltanvil.store.unused_media import unused_media

KEPT_DAYS = 3
EDIT_COLUMNS = ("seq", "edit", "change", "inverse", "matches_before", "matches_after", "made_at", "words")
SAMPLE_BYTES = 4


def database_in(folder: Path) -> Path:
    """Raises StoreError if there is none."""
    path = folder / DATABASE
    if not path.is_file():
        raise StoreError(f"{folder}: there are no sessions here; name their folder with --data")
    return path


@contextmanager
def reading(folder: Path) -> Iterator[Database]:
    """The sessions of a folder, which may be read-only or in use. What an earlier version made is brought up to date first,
    which does need writing. Raises StoreError."""
    path = database_in(folder)
    if outdated(path):
        try:
            with DataFolder(folder), Database(path):
                pass
        except StoreError as error:
            raise StoreError(f"{path}: made by an earlier version, it must be brought up to date to be read. {error}") from error
    with ReadOnlyDatabase(path) as database:
        yield database


def back_up(folder: Path, target: Path) -> int:
    """Copy the whole database, while it is in use, to a file that is not there yet; returns its size in bytes.

    By SQLite's own online backup: the copy is the state of one moment. Raises StoreError, OSError; nothing is left then.
    """
    source = database_in(folder)
    check_file(source)
    if target.exists():
        raise StoreError(f"{target}: is there already; name another file")
    if not target.parent.is_dir():
        raise StoreError(f"{target.parent}: there is no such folder to write to; make it first")
    part = target.with_name(f".{target.name}.part")
    part.unlink(missing_ok=True)
    try:
        os.close(os.open(part, os.O_CREAT | os.O_RDWR, 0o600))
        with closing(read_only(source)) as connection, closing(sqlite3.connect(part)) as copy:
            connection.backup(copy)
            copy.execute("PRAGMA journal_mode = DELETE")
        check_file(part)
        part.rename(target)
    except sqlite3.Error as error:
        raise refusal(target, error) from error
    finally:
        part.unlink(missing_ok=True)
    return target.stat().st_size


def copy_documents(folder: Path, now: float | None = None) -> Path | None:
    """Keep today's copy of all documents (not the media, which never change), and the last three of them.

    Returns the copy; None where there is one of today already. Raises StoreError.
    """
    day = time.strftime("%Y-%m-%d", time.localtime(now))
    copies = folder / COPIES
    target = copies / f"documents-{day}.db"
    if target.exists():
        return None
    part = copies / ".part.db"
    try:
        copies.mkdir(mode=0o700, exist_ok=True)
        part.unlink(missing_ok=True)
        with Database(part) as copied_database:
            copy = copied_database.connection()
            copy.execute("ATTACH ? AS source", (f"{folder / DATABASE}",))
            copy.execute("BEGIN")
            for table in DOCUMENTS:
                columns = ", ".join(row[1] for row in copy.execute(f"PRAGMA main.table_info({table})"))
                # The names are our own constants and those of our own schema.
                copy.execute(f"INSERT INTO main.{table} ({columns}) SELECT {columns} FROM source.{table}")  # noqa: S608
            copy.execute("COMMIT")
            copy.execute("DETACH source")
            copy.execute("PRAGMA journal_mode = DELETE")
        part.rename(target)
    except sqlite3.Error as error:
        raise refusal(target, error) from error
    except OSError as error:
        raise StoreError(f"{target}: cannot be written ({error.strerror})") from error
    finally:
        for leftover in copies.glob(".part.db*"):
            leftover.unlink(missing_ok=True)
    for old in sorted(copies.glob("documents-*.db"))[:-KEPT_DAYS]:
        old.unlink(missing_ok=True)
    return target


def restore_documents(database: Database, copy: Path) -> list[str]:
    """Bring the sessions of a copy back beside those there are, with their history; returns their new names. Presets come
    back where their name is free. Raises StoreError; nothing is changed then."""
    check_file(copy)
    names: list[str] = []
    copied: dict[int | None, int | None] = {None: None}
    with closing(read_only(copy)) as source, database.transaction() as connection:
        tables = {row[0] for row in source.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}
        for row in source.execute("SELECT * FROM sessions WHERE deleted_at IS NULL ORDER BY id"):
            name = f"{row['name'][:100]} ({copy.stem.removeprefix('documents-')})"
            read_session(row["document"], row["name"])
            # As it was kept: the history beside it is of the same format.
            document = json.dumps({**json.loads(row["document"]), "name": name}, separators=(",", ":"))
            cursor = connection.execute(
                "INSERT INTO sessions (name, document, revision, position, changed_at) VALUES (?, ?, ?, ?, ?)",
                (name, document, row["revision"], row["position"], row["changed_at"]),
            )
            for edit in source.execute("SELECT * FROM edits WHERE session_id = ?", (row["id"],)):
                # Copies of earlier versions know less of an edit.
                known = [name for name in EDIT_COLUMNS if name in edit.keys()]  # noqa: SIM118 -- a row, not a dict
                connection.execute(
                    f"INSERT INTO edits (session_id, {', '.join(known)}) VALUES (?{', ?' * len(known)})",  # noqa: S608 -- ours
                    (cursor.lastrowid, *(edit[name] for name in known)),
                )
            if "comparisons" in tables:
                compared = source.execute("SELECT made_at, result FROM comparisons WHERE session_id = ?", (row["id"],))
                connection.executemany(
                    "INSERT INTO comparisons (session_id, made_at, result) VALUES (?, ?, ?)",
                    [(cursor.lastrowid, *one) for one in compared],
                )
            names.append(name)
            copied[row["id"]] = cursor.lastrowid
        for row in source.execute("SELECT * FROM presets WHERE deleted_at IS NULL"):
            # Copies from before presets could belong to a session do not name one.
            session_id = row["session_id"] if "session_id" in row.keys() else None  # noqa: SIM118 -- a row, not a dict
            if session_id is None or session_id in copied:
                connection.execute(
                    "INSERT OR IGNORE INTO presets (kind, name, settings, changed_at, session_id) VALUES (?, ?, ?, ?, ?)",
                    (row["kind"], row["name"], row["settings"], row["changed_at"], copied.get(session_id)),
                )
    return names


@dataclass(frozen=True)
class Finding:
    """Something about a folder; wrong: whether it is a fault."""

    text: str
    wrong: bool


def findings(folder: Path) -> Iterator[Finding]:
    """What a test of the folder finds: the file, every session, all sound of every media. Nothing is written.

    Raises StoreError if it cannot be opened at all.
    """
    path = database_in(folder)
    check_file(path)
    with closing(read_only(path)) as connection:
        try:
            for (text,) in connection.execute("PRAGMA integrity_check(20)"):
                if text != "ok":
                    yield Finding(f"the database is damaged: {text.splitlines()[0]}", True)
            sessions = 0
            for row in connection.execute("SELECT id, name, document FROM sessions ORDER BY id"):
                sessions += 1
                try:
                    _, notices = read_session(row["document"], row["name"])
                except Unreadable as error:
                    yield Finding(str(error), True)
                else:
                    yield from (Finding(notice, False) for notice in notices)
            media = 0
            for row in connection.execute(
                "SELECT media.id, name, channels, r.rate_hz, r.frames, count(place) AS chunks, total(length(samples)) AS bytes "
                "FROM media JOIN renditions AS r ON r.media_id = media.id "
                "LEFT JOIN chunks ON chunks.media_id = media.id AND chunks.rate_hz = r.rate_hz "
                "WHERE ready = 1 GROUP BY media.id, r.rate_hz"
            ):
                media += 1
                if (
                    row["chunks"] != -(-row["frames"] // CHUNK_FRAMES)
                    or row["bytes"] != row["frames"] * row["channels"] * SAMPLE_BYTES
                ):
                    yield Finding(f"the sound of {row['name']} at {row['rate_hz']} Hz is not whole; import it again", True)
            unused = list(unused_media(connection))
            if unused:
                size = sum(size for _, size in unused) / (1 << 20)
                yield Finding(f"{len(unused)} media ({size:.1f} MiB) are needed by no session; they go after a week", False)
            yield Finding(f"{sessions} sessions, {media} renditions of media, {path.stat().st_size / (1 << 20):.1f} MiB", False)
        except sqlite3.Error as error:
            yield Finding(f"the database is damaged: {error}", True)
