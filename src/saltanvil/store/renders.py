"""The file of the render store: sound in segments, bounded, checked when it is read, thrown away at will."""

import functools
import hashlib
import logging
import os
import queue
import shutil
import sqlite3
import threading
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from importlib import resources
from pathlib import Path
from typing import Any, TypeVar

import llvmlite.binding  # type: ignore[import-untyped]
import numba
import numpy as np

from saltanvil.engine.media import Audio

RENDERS = "renders.db"
#: By default so much of what is free on the disk, and so much at most.
FREE_SHARE, MAX_BYTES = 0.1, 8 << 30
#: A disk that takes longer is done without until it is back.
PATIENCE_S = 2.0
#: And for what plays.
READER_PATIENCE_S = 0.05
#: Segments that may wait to be written, and that one transaction takes.
MAX_WAITING, MAX_TOGETHER = 64, 32
#: What decides how a document sounds.
SOURCES = ("dsp", "measure", "processors", "engine", "session")
SCHEMA = """
CREATE TABLE about (program TEXT NOT NULL);
CREATE TABLE sounds (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, used INTEGER NOT NULL);
CREATE TABLE segments (
    sound_id INTEGER NOT NULL,
    number INTEGER NOT NULL,
    channels INTEGER NOT NULL,
    checksum INTEGER NOT NULL,
    samples BLOB NOT NULL,
    PRIMARY KEY (sound_id, number)
);
CREATE TABLE states (
    sound_id INTEGER NOT NULL,
    number INTEGER NOT NULL,
    checksum INTEGER NOT NULL,
    state BLOB NOT NULL,
    PRIMARY KEY (sound_id, number)
);
"""
SOUND = """
SELECT channels, checksum, samples FROM segments WHERE sound_id = (SELECT id FROM sounds WHERE name = ?) AND number = ?
"""
STATE = """
SELECT checksum, state FROM states WHERE sound_id = (SELECT id FROM sounds WHERE name = ?) AND number = ?
"""
#: Bytes of a sound, with its states.
SIZE = """
SELECT coalesce((SELECT sum(length(samples)) FROM segments WHERE sound_id = sounds.id), 0)
    + coalesce((SELECT sum(length(state)) FROM states WHERE sound_id = sounds.id), 0) FROM sounds
"""

log = logging.getLogger(__name__)

T = TypeVar("T")
#: A segment's sound, or the states before it.
Waiting = tuple[str, int, Audio | bytes]


def default_bytes(folder: Path) -> int:
    """What the store takes already counts as free, or it would shrink from start to start."""
    path = folder / RENDERS
    own = path.stat().st_size if path.exists() else 0
    return min(MAX_BYTES, int(FREE_SHARE * (shutil.disk_usage(folder).free + own)))


@functools.cache
def program() -> str:
    """Names the code that renders, and the machine it is compiled for: another one may sound different in the last bit."""
    digest = hashlib.blake2b(digest_size=16)
    for name in SOURCES:
        root = resources.files("saltanvil") / name
        for path in sorted(Path(str(root)).rglob("*.py")):
            digest.update(path.read_bytes())
    digest.update(f"{numba.__version__} {np.__version__} {llvmlite.binding.get_host_cpu_name()}".encode())
    return digest.hexdigest()


class DamagedSegment(Exception):
    """Not what was written."""


def checked_row(connection: sqlite3.Connection, query: str, name: str, segment: int) -> Any:
    """A row of a segment that ends with its checksum and its data; None if there is none. Raises DamagedSegment."""
    row = connection.execute(query, (name, segment)).fetchone()
    if row is not None and zlib.crc32(row[-1]) != row[-2]:
        raise DamagedSegment
    return row


def read_sound(connection: sqlite3.Connection, name: str, segment: int) -> Audio | None:
    row = checked_row(connection, SOUND, name, segment)
    return None if row is None else np.frombuffer(bytearray(row[-1]), np.float32).reshape(row[-3], -1)


def read_borders(connection: sqlite3.Connection, name: str, most: int) -> list[int]:
    rows = connection.execute(
        "SELECT number FROM states WHERE sound_id = (SELECT id FROM sounds WHERE name = ?) AND number <= ?", (name, most)
    )
    return [row[0] for row in rows]


def read_state(connection: sqlite3.Connection, name: str, segment: int) -> bytes | None:
    row = checked_row(connection, STATE, name, segment)
    return None if row is None else bytes(row[-1])


class RenderFile:
    """A `RenderStore` in a file. Sounds that nobody asked for the longest go first when it is full.

    It never fails: what cannot be kept or read is rendered again, and the log says so once. Writing is done by a thread of its
    own, and a killed process leaves whole segments; nobody waits for a disk that hangs for longer than PATIENCE_S. most_bytes: 0
    keeps nothing, and removes what is there.
    """

    def __init__(self, path: Path, most_bytes: int) -> None:
        self.path, self.most_bytes = path, most_bytes
        self.bytes = 0
        self._lock = threading.Lock()
        self._connection: sqlite3.Connection | None = None
        self._waiting: queue.Queue[Waiting | None] = queue.Queue(MAX_WAITING)
        #: When each sound was last asked for, by name, in the order of asking.
        self._uses: dict[str, int] = {}
        self._time = 0
        self._writer: threading.Thread | None = None
        self._starting = threading.Lock()
        #: Whether the queue, or the file, was waited for in vain the last time.
        self._behind = self._hangs = False
        try:
            if most_bytes:
                self._open()
            else:
                self._throw_away()
        except (sqlite3.Error, OSError) as error:
            log.warning("%s is begun anew: %s", path, error)
            try:
                self._throw_away()
                self._open()
            except (sqlite3.Error, OSError) as again:
                self._stop(again)

    def _open(self) -> None:
        known = program()
        os.close(os.open(self.path, os.O_RDWR | os.O_CREAT, 0o600))
        connection = sqlite3.connect(self.path, timeout=20.0, isolation_level=None, check_same_thread=False)
        self._connection = connection
        connection.execute("PRAGMA page_size = 32768")
        # What a crash of the machine damages is found by its checksum; a killed process leaves no half transaction.
        connection.execute("PRAGMA journal_mode = TRUNCATE")
        connection.execute("PRAGMA synchronous = OFF")
        tables = {row[0] for row in connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}
        if tables and connection.execute("SELECT program FROM about").fetchone() != (known,):
            self._throw_away()
            return self._open()
        if not tables:
            connection.executescript(f"BEGIN; {SCHEMA} COMMIT;")
            connection.execute("INSERT INTO about VALUES (?)", (known,))
        self.bytes = sum(row[0] for row in connection.execute(SIZE))
        self._time = connection.execute("SELECT coalesce(max(used), 0) FROM sounds").fetchone()[0]
        return None

    def _throw_away(self) -> None:
        if self._connection is not None:
            self._connection.close()
            self._connection = None
        for path in (self.path, self.path.with_name(f"{self.path.name}-journal")):
            path.unlink(missing_ok=True)

    def _stop(self, error: Exception) -> None:
        """Do without; said once."""
        if self._connection is not None:
            log.warning("%s keeps nothing until the next start: %s", self.path, error)
        self._connection = None

    @contextmanager
    def _work(self) -> Iterator[sqlite3.Connection | None]:
        """The connection, for one thread at a time; None where there is none any more, or another thread keeps it for long."""
        if not self._lock.acquire(timeout=0.0 if self._hangs else PATIENCE_S):
            self._hangs = True
            yield None
            return
        self._hangs = False
        try:
            yield self._connection
        except sqlite3.Error as error:
            self._stop(error)
        finally:
            self._lock.release()

    def has(self, name: str, segments: int) -> bool:
        with self._work() as connection:
            if connection is None:
                return False
            self._time += 1
            self._uses[name] = self._time
            row = connection.execute(
                "SELECT count(*) FROM segments WHERE sound_id = (SELECT id FROM sounds WHERE name = ?) AND number < ?",
                (name, segments),
            ).fetchone()
            return bool(row[0] == segments)
        return False

    def read(self, name: str, segment: int) -> Audio | None:
        return self._whole(read_sound, name, segment)

    def borders(self, name: str, most: int) -> list[int]:
        with self._work() as connection:
            return [] if connection is None else read_borders(connection, name, most)
        return []

    def read_state(self, name: str, segment: int) -> bytes | None:
        return self._whole(read_state, name, segment)

    def _whole(self, read: Callable[[sqlite3.Connection, str, int], T | None], name: str, segment: int) -> T | None:
        with self._work() as connection:
            if connection is None:
                return None
            try:
                return read(connection, name, segment)
            except DamagedSegment:
                log.warning("%s: a segment is damaged; it is rendered again", self.path)
                self._drop(connection, name)
        return None

    def write(self, name: str, segment: int, sound: Audio) -> None:
        """Soon. sound: is not to be changed afterwards."""
        self._hand_over((name, segment, sound))

    def write_state(self, name: str, segment: int, state: bytes) -> None:
        """Soon."""
        self._hand_over((name, segment, state))

    def _hand_over(self, what: Waiting) -> None:
        if self._connection is None:
            return
        with self._starting:
            if self._writer is None:
                self._writer = threading.Thread(target=self._write, name="renders", daemon=True)
                self._writer.start()
        # Once it was waited for in vain, nothing is until the disk has caught up.
        self._put(what, 0.0 if self._behind else PATIENCE_S)

    def _put(self, what: Waiting | None, patience_s: float) -> None:
        try:
            self._waiting.put(what, block=patience_s > 0.0, timeout=patience_s)
            self._behind = False
        except queue.Full:
            self._behind = True

    def flush(self) -> None:
        """Wait until all that was handed over is written."""
        self._waiting.join()

    def close(self) -> None:
        if self._writer is not None:
            self._put(None, PATIENCE_S)
            self._writer.join(timeout=PATIENCE_S)
        with self._work() as connection:
            if connection is not None:
                self._note_uses(connection)
                connection.close()
        self._connection = None

    # ---- the thread that writes ------------------------------------------------------------------------------------

    def _write(self) -> None:
        ended = False
        while not ended:
            together = [self._waiting.get()]
            while len(together) < MAX_TOGETHER and not self._waiting.empty():
                together.append(self._waiting.get())
            ended = None in together
            segments = [one for one in together if one is not None]
            with self._work() as connection:
                if connection is not None and segments:
                    self._keep(connection, segments)
            for _ in together:
                self._waiting.task_done()

    def _keep(self, connection: sqlite3.Connection, segments: list[Waiting]) -> None:
        connection.execute("BEGIN IMMEDIATE")
        try:
            for name, number, what in segments:
                connection.execute("INSERT OR IGNORE INTO sounds (name, used) VALUES (?, ?)", (name, self._time))
                data = what if isinstance(what, bytes) else what.tobytes()
                if isinstance(what, bytes):
                    cursor = connection.execute(
                        "INSERT OR IGNORE INTO states SELECT id, ?, ?, ? FROM sounds WHERE name = ?",
                        (number, zlib.crc32(data), data, name),
                    )
                else:
                    cursor = connection.execute(
                        "INSERT OR IGNORE INTO segments SELECT id, ?, ?, ?, ? FROM sounds WHERE name = ?",
                        (number, len(what), zlib.crc32(data), data, name),
                    )
                self.bytes += len(data) * cursor.rowcount
            self._note_uses(connection)
            while self.bytes > self.most_bytes:
                oldest = connection.execute("SELECT name FROM sounds ORDER BY used, id LIMIT 1").fetchone()
                if oldest is None:
                    break
                self._drop(connection, oldest[0])
            connection.execute("COMMIT")
        except sqlite3.Error:
            if connection.in_transaction:
                connection.execute("ROLLBACK")
            raise

    def _note_uses(self, connection: sqlite3.Connection) -> None:
        connection.executemany("UPDATE sounds SET used = ? WHERE name = ?", [(at, name) for name, at in self._uses.items()])
        self._uses.clear()

    def _drop(self, connection: sqlite3.Connection, name: str) -> None:
        row = connection.execute(SIZE.replace("SELECT", "SELECT id,", 1) + " WHERE name = ?", (name,)).fetchone()
        if row is not None:
            connection.execute("DELETE FROM segments WHERE sound_id = ?", (row[0],))
            connection.execute("DELETE FROM states WHERE sound_id = ?", (row[0],))
            connection.execute("DELETE FROM sounds WHERE id = ?", (row[0],))
            self.bytes -= row[1]


class RenderReader:
    """The same file for another process, which only reads, and waits for nobody: a `RenderStore` that keeps nothing."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._lock = threading.Lock()
        self._connection: sqlite3.Connection | None = None

    @contextmanager
    def _work(self) -> Iterator[sqlite3.Connection]:
        """Raises sqlite3.Error where there is no file, or it is being written."""
        with self._lock:
            if self._connection is None:
                connection = sqlite3.connect(
                    f"{self.path.absolute().as_uri()}?mode=ro", uri=True, timeout=READER_PATIENCE_S, check_same_thread=False
                )
                if connection.execute("SELECT program FROM about").fetchone() != (program(),):
                    connection.close()
                    raise sqlite3.DatabaseError("it is another program's")
                self._connection = connection
            yield self._connection

    def has(self, name: str, segments: int) -> bool:
        return False

    def read(self, name: str, segment: int) -> Audio | None:
        with suppress(sqlite3.Error, DamagedSegment), self._work() as connection:
            return read_sound(connection, name, segment)
        return None

    def borders(self, name: str, most: int) -> list[int]:
        with suppress(sqlite3.Error), self._work() as connection:
            return read_borders(connection, name, most)
        return []

    def read_state(self, name: str, segment: int) -> bytes | None:
        with suppress(sqlite3.Error, DamagedSegment), self._work() as connection:
            return read_state(connection, name, segment)
        return None

    def write(self, name: str, segment: int, sound: Audio) -> None: ...

    def write_state(self, name: str, segment: int, state: bytes) -> None: ...

    def close(self) -> None:
        if self._connection is not None:
            self._connection.close()
            self._connection = None
