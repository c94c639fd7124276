"""Sessions, their edits, undo and redo."""

import sqlite3
import threading
import time
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, replace

from saltanvil.session.apply import EDIT, apply
from saltanvil.session.document import Match, Session
from saltanvil.session.edits import Edit, EditRefused, SetSession
from saltanvil.store.database import Database


@dataclass(frozen=True)
class Listed:
    id: int
    name: str
    changed_at: float
    deleted: bool


@dataclass(frozen=True)
class Version:
    """A session as it stands: the revision grows with every change, undo and redo included."""

    id: int
    revision: int
    session: Session
    can_undo: bool
    can_redo: bool


class SessionStore:
    """Every edit is stored, with its inverse, in the transaction that changes the document.

    `position` counts the edits that are in force; those after it can be redone until a new edit drops them.
    """

    def __init__(self, database: Database) -> None:
        self.database = database
        self._lock = threading.Lock()
        self._current: dict[int, Version] = {}

    def listed(self) -> list[Listed]:
        """All sessions, the last changed first, deleted ones included."""
        rows = self.database.connection().execute(
            "SELECT id, name, changed_at, deleted_at FROM sessions ORDER BY changed_at DESC, id DESC"
        )
        return [Listed(row["id"], row["name"], row["changed_at"], row["deleted_at"] is not None) for row in rows]

    def create(self, session: Session, changed_at: float | None = None) -> int:
        """changed_at: seconds since 1970; now, if not given."""
        with self.database.transaction() as connection:
            cursor = connection.execute(
                "INSERT INTO sessions (name, document, changed_at) VALUES (?, ?, ?)",
                (session.name, session.model_dump_json(), time.time() if changed_at is None else changed_at),
            )
        return int(cursor.lastrowid or 0)

    def duplicate(self, session_id: int) -> int:
        """A copy under a name of its own; it shares the media and starts without a past."""
        session = self.version(session_id).session
        return self.create(session.model_copy(update={"name": f"{session.name[:110]} copy"}))

    def set_deleted(self, session_id: int, deleted: bool) -> None:
        """Delete, or take it back: a deleted session keeps everything."""
        with self.database.transaction() as connection:
            found = connection.execute(
                "UPDATE sessions SET deleted_at = ? WHERE id = ?", (time.time() if deleted else None, session_id)
            )
        if not found.rowcount:
            raise LookupError(f"there is no session {session_id}")

    def version(self, session_id: int) -> Version:
        """Raises LookupError."""
        with self._lock:
            return self._version(session_id)

    def _version(self, session_id: int) -> Version:
        found = self._current.get(session_id)
        if found is None:
            connection = self.database.connection()
            row = connection.execute("SELECT document, revision, position FROM sessions WHERE id = ?", (session_id,)).fetchone()
            if row is None:
                raise LookupError(f"there is no session {session_id}; choose one from the list")
            last = connection.execute("SELECT max(seq) FROM edits WHERE session_id = ?", (session_id,)).fetchone()[0] or 0
            session = Session.model_validate_json(row["document"])
            found = Version(session_id, row["revision"], session, row["position"] > 0, row["position"] < last)
            self._current[session_id] = found
        return found

    def edit(self, session_id: int, edit: Edit, gesture: str | None = None) -> Version:
        """Apply and store one edit. Edits of one gesture (a drag) are undone together.

        Raises EditRefused (nothing changed), LookupError, StoreError (nothing changed).
        """
        with self._lock:
            version = self._version(session_id)
            changed, inverse = apply(version.session, edit)
            with self.database.transaction() as connection:
                position = connection.execute("SELECT position FROM sessions WHERE id = ?", (session_id,)).fetchone()[0]
                connection.execute("DELETE FROM edits WHERE session_id = ? AND seq > ?", (session_id, position))
                last = connection.execute(
                    "SELECT gesture FROM edits WHERE session_id = ? AND seq = ?", (session_id, position)
                ).fetchone()
                if gesture is not None and last is not None and last["gesture"] == gesture:
                    connection.execute(
                        "UPDATE edits SET edit = ? WHERE session_id = ? AND seq = ?",
                        (edit.model_dump_json(), session_id, position),
                    )
                else:
                    position += 1
                    connection.execute(
                        "INSERT INTO edits (session_id, seq, edit, inverse, gesture) VALUES (?, ?, ?, ?, ?)",
                        (session_id, position, edit.model_dump_json(), inverse.model_dump_json(), gesture),
                    )
                self._write(connection, session_id, changed, version.revision + 1, position)
            return self._keep(Version(session_id, version.revision + 1, changed, True, False))

    def settle(self, session_id: int, matches: Mapping[str, Match]) -> Version:
        """Keep what was measured of blends and outputs, by the steps' ids. This is no edit: there is nothing to undo about it."""
        with self._lock:
            version = self._version(session_id)
            session = version.session.model_copy(deep=True)
            for step_id, match in matches.items():
                with suppress(LookupError):  # it may have been removed while it was measured
                    session.step(step_id).step.match = match
            with self.database.transaction() as connection:
                position = connection.execute("SELECT position FROM sessions WHERE id = ?", (session_id,)).fetchone()[0]
                self._write(connection, session_id, session, version.revision + 1, position)
            return self._keep(replace(version, revision=version.revision + 1, session=session))

    def undo(self, session_id: int) -> Version:
        """Raises EditRefused if there is nothing to undo."""
        return self._step(session_id, back=True)

    def redo(self, session_id: int) -> Version:
        """Raises EditRefused if there is nothing to redo."""
        return self._step(session_id, back=False)

    def _step(self, session_id: int, back: bool) -> Version:
        with self._lock:
            version = self._version(session_id)
            with self.database.transaction() as connection:
                position = connection.execute("SELECT position FROM sessions WHERE id = ?", (session_id,)).fetchone()[0]
                row = connection.execute(
                    "SELECT edit, inverse FROM edits WHERE session_id = ? AND seq = ?",
                    (session_id, position if back else position + 1),
                ).fetchone()
                if row is None:
                    raise EditRefused("there is nothing to undo" if back else "there is nothing to redo")
                changed, _ = apply(version.session, EDIT.validate_json(row["inverse"] if back else row["edit"]))
                position += -1 if back else 1
                self._write(connection, session_id, changed, version.revision + 1, position)
                last = connection.execute("SELECT max(seq) FROM edits WHERE session_id = ?", (session_id,)).fetchone()[0]
            return self._keep(Version(session_id, version.revision + 1, changed, position > 0, position < last))

    @staticmethod
    def _write(connection: sqlite3.Connection, session_id: int, session: Session, revision: int, position: int) -> None:
        connection.execute(
            "UPDATE sessions SET name = ?, document = ?, revision = ?, position = ?, changed_at = ? WHERE id = ?",
            (session.name, session.model_dump_json(), revision, position, time.time(), session_id),
        )

    def _keep(self, version: Version) -> Version:
        self._current[version.id] = version
        return version

    def rename(self, session_id: int, name: str) -> Version:
        """An edit like any other, so it can be undone."""
        return self.edit(session_id, SetSession(name=name))
