"""The database file: checked before it is touched, a connection for each thread, transactions, migrations."""

import os
import sqlite3
import struct
import threading
from collections.abc import Iterator
from contextlib import closing, contextmanager
from importlib import resources
from pathlib import Path
from typing import Self
from weakref import WeakKeyDictionary

from saltanvil.errors import UserError

#: Small tables, tested whole at every start; the media are tested by `saltanvil check`.
DOCUMENTS = ("sessions", "edits", "comparisons", "presets")
#: Numbers of rows: within what SQLite counts to, and JavaScript exactly.
MAX_NUMBER = 1 << 53
MAGIC = b"SQLite format 3\x00"
REMEDY = "nothing was written to it; put a copy in its place, or name another folder with --data"


class StoreError(UserError, RuntimeError):
    """The database could not take it; nothing was changed."""


def refusal(path: Path, error: sqlite3.Error) -> StoreError:
    """What an error of SQLite means to the user, and the remedy."""
    text = str(error)
    if "readonly" in text or "unable to open" in text:
        return StoreError(f"{path}: cannot be written ({text}); is the disk or the folder read-only?")
    if isinstance(error, sqlite3.OperationalError):
        return StoreError(f"{path}: could not be saved ({text}); free some space on the disk")
    return StoreError(f"{path}: the database is damaged ({text}); test it with `saltanvil check`, and put a copy in its place")


def read_only(path: Path) -> sqlite3.Connection:
    """A connection that never writes; the caller closes it. Without a log beside it the file is taken as it is."""
    still = "" if path.with_name(f"{path.name}-wal").exists() else "&immutable=1"
    connection = sqlite3.connect(
        f"{path.resolve().as_uri()}?mode=ro{still}", uri=True, timeout=20.0, isolation_level=None, check_same_thread=False
    )
    connection.row_factory = sqlite3.Row
    return connection


def newest_version() -> int:
    return max(number for number, _ in migrations())


def migrations() -> list[tuple[int, str]]:
    folder = resources.files("saltanvil.store") / "migrations"
    scripts = sorted((item for item in folder.iterdir() if item.name.endswith(".sql")), key=lambda item: item.name)
    return [(int(script.name.split("_")[0]), script.read_text()) for script in scripts]


def check_file(path: Path) -> None:
    """Refuse what is no whole database of ours, without writing. Raises StoreError: what, where, what to do."""
    try:
        size = path.stat().st_size
        with path.open("rb") as file:
            head = file.read(100)
    except OSError as error:
        raise StoreError(f"{path}: cannot be read ({error.strerror}); {REMEDY}") from error
    if size == 0:
        raise StoreError(f"{path}: the file is empty, cut off or never written; {REMEDY}, or remove it to begin anew")
    if head[:16] != MAGIC or len(head) < 100:
        raise StoreError(f"{path}: this is not a database; {REMEDY}")
    page, pages = struct.unpack(">H", head[16:18])[0], struct.unpack(">I", head[28:32])[0]
    log = path.with_name(f"{path.name}-wal")
    if head[24:28] == head[92:96] and size < pages * (65536 if page == 1 else page) and not (log.exists() and log.stat().st_size):
        raise StoreError(f"{path}: the database is cut off ({size} bytes are there); {REMEDY}")
    try:
        with closing(read_only(path)) as connection:
            version = connection.execute("PRAGMA user_version").fetchone()[0]
            if version > newest_version():
                raise StoreError(
                    f"{path}: made by a newer version of Salt Anvil (database {version}); update, or name another folder"
                )
            names = {row[0] for row in connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}
            if names and not {"sessions", "edits", "media"} <= names:
                raise StoreError(f"{path}: this database belongs to another program; {REMEDY}")
            for table in DOCUMENTS:
                if table in names and (result := connection.execute(f"PRAGMA quick_check('{table}')").fetchone()[0]) != "ok":
                    raise StoreError(f"{path}: the database is damaged ({result.splitlines()[0]}); {REMEDY}")
    except sqlite3.Error as error:
        raise StoreError(f"{path}: the database is damaged ({error}); {REMEDY}") from error


def outdated(path: Path) -> bool:
    """Whether opening a database would migrate it. Raises StoreError."""
    check_file(path)
    with closing(read_only(path)) as connection:
        return int(connection.execute("PRAGMA user_version").fetchone()[0]) < newest_version()


def identity_of(path: Path) -> tuple[int, int] | None:
    """Device and inode of a file; None if there is none."""
    try:
        status = path.stat()
    except OSError:
        return None
    return status.st_dev, status.st_ino


class Database:
    """One SQLite file in write-ahead mode. Readers never wait; a writer waits for another up to 20 s.

    What a transaction has committed is on the disk (`synchronous = FULL`): it outlives a crash of the machine. Raises
    StoreError if the file cannot be opened, is damaged, newer or another program's; nothing is written to it then.

    It is to be closed before the file is opened anew in the same process: the check of the file opens it by itself, and POSIX
    drops all locks of a process on a file when any of its descriptors of it closes. SQLite would not know that it holds none, and
    another process could delete its log ("How To Corrupt An SQLite Database File", 2.2).
    """

    def __init__(self, path: Path, checked: bool = False) -> None:
        """checked: another process of ours has it open; it is taken as it is."""
        self.path = path
        #: One a thread; those of threads that are gone close by themselves.
        self._connections: WeakKeyDictionary[threading.Thread, sqlite3.Connection] = WeakKeyDictionary()
        self._lock = threading.Lock()
        self._identity: tuple[int, int] | None = None
        if checked:
            return
        if path.exists():
            check_file(path)
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            os.close(os.open(path, os.O_RDWR | os.O_CREAT, 0o600))
            path.chmod(0o600)
            self._identity = identity_of(path)
            self._migrate()
        except sqlite3.Error as error:
            raise refusal(path, error) from error
        except (FileExistsError, NotADirectoryError) as error:
            raise StoreError(f"{path.parent}: this is a file, not a folder; name another one with --data") from error
        except OSError as error:
            raise StoreError(
                f"{path}: cannot be written ({error.strerror}); is the disk full or the folder read-only?"
            ) from error

    def connection(self) -> sqlite3.Connection:
        with self._lock:
            result = self._connections.get(threading.current_thread())
        if result is None:
            # Closed by `close`, from whichever thread; used by its own only.
            # Never made here: a file at the place of one that was removed would take what belongs to that.
            uri = f"{self.path.resolve().as_uri()}?mode=rw"
            result = sqlite3.connect(uri, uri=True, timeout=20.0, isolation_level=None, check_same_thread=False)
            result.row_factory = sqlite3.Row
            result.execute("PRAGMA journal_mode = WAL")
            result.execute("PRAGMA synchronous = FULL")
            result.execute("PRAGMA foreign_keys = ON")
            with self._lock:
                self._connections[threading.current_thread()] = result
        return result

    def close(self) -> None:
        """Close the connections of all threads; nobody may be using them any more."""
        with self._lock:
            connections = list(self._connections.values())
            self._connections.clear()
        for connection in connections:
            connection.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *raised: object) -> None:
        self.close()

    @contextmanager
    def transaction(self) -> Iterator[sqlite3.Connection]:
        """All or nothing. Raises StoreError, with the remedy, if the disk is full or the file cannot be written."""
        connection = self.connection()
        try:
            connection.execute("BEGIN IMMEDIATE")
            yield connection
            self._check_there()
            connection.execute("COMMIT")
        except BaseException as error:
            if connection.in_transaction:
                connection.execute("ROLLBACK")
            if isinstance(error, sqlite3.DatabaseError) and not isinstance(
                error, sqlite3.IntegrityError | sqlite3.ProgrammingError
            ):
                raise refusal(self.path, error) from error
            raise

    def _check_there(self) -> None:
        """What is open may not be what lies at the path any more: what is written to a file that was removed is lost with it.
        Raises StoreError."""
        if self._identity is not None and identity_of(self.path) != self._identity:
            raise StoreError(
                f"{self.path}: the database is not there any more (moved, replaced or removed); nothing was changed. Put "
                "its folder back, or stop Salt Anvil and start it anew with --data and the folder's place"
            )

    def _migrate(self) -> None:
        connection = self.connection()
        version = connection.execute("PRAGMA user_version").fetchone()[0]
        for number, script in migrations():
            if number > version:
                connection.executescript(f"BEGIN; {script} PRAGMA user_version = {number}; COMMIT;")


class ReadOnlyDatabase(Database):
    """A database that is only read: nothing is written beside it either, and it may be in use. Raises StoreError."""

    def __init__(self, path: Path) -> None:
        super().__init__(path, checked=True)
        check_file(path)

    def connection(self) -> sqlite3.Connection:
        with self._lock:
            result = self._connections.get(threading.current_thread())
            if result is None:
                result = self._connections[threading.current_thread()] = read_only(self.path)
        return result

    @contextmanager
    def transaction(self) -> Iterator[sqlite3.Connection]:
        raise StoreError(f"{self.path}: it is open for reading only")
        yield self.connection()
