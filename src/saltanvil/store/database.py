"""The database file: a connection for each thread, transactions, migrations."""

import sqlite3
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from importlib import resources
from pathlib import Path


class StoreError(RuntimeError):
    """The database could not take it; nothing was changed."""


class Database:
    """One SQLite file in write-ahead mode. Readers never wait; a writer waits for another up to 20 s."""

    def __init__(self, path: Path) -> None:
        path.parent.mkdir(parents=True, exist_ok=True)
        self.path = path
        self._local = threading.local()
        self._migrate()

    def connection(self) -> sqlite3.Connection:
        found: sqlite3.Connection | None = getattr(self._local, "connection", None)
        if found is None:
            found = sqlite3.connect(self.path, timeout=20.0, isolation_level=None)
            found.row_factory = sqlite3.Row
            found.execute("PRAGMA journal_mode = WAL")
            found.execute("PRAGMA synchronous = NORMAL")
            found.execute("PRAGMA foreign_keys = ON")
            self._local.connection = found
        return found

    @contextmanager
    def transaction(self) -> Iterator[sqlite3.Connection]:
        """All or nothing. Raises StoreError, with the remedy, if the disk is full or the file cannot be written."""
        connection = self.connection()
        try:
            connection.execute("BEGIN IMMEDIATE")
            yield connection
            connection.execute("COMMIT")
        except BaseException as error:
            if connection.in_transaction:
                connection.execute("ROLLBACK")
            if isinstance(error, sqlite3.OperationalError):
                raise StoreError(f"could not be saved ({error}); free some space on the disk of {self.path.name}") from error
            raise

    def _migrate(self) -> None:
        connection = self.connection()
        version = connection.execute("PRAGMA user_version").fetchone()[0]
        folder = resources.files("saltanvil.store") / "migrations"
        for script in sorted(folder.iterdir(), key=lambda item: item.name):
            number = int(script.name.split("_")[0])
            if number > version:
                connection.executescript(f"BEGIN; {script.read_text()} PRAGMA user_version = {number}; COMMIT;")
