"""Sessions, their edits, undo and redo."""

import json
import sqlite3
import threading
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from itertools import count

from saltanvil.session.address import Moved
from saltanvil.session.apply import apply
from saltanvil.session.changes import difference
from saltanvil.session.document.base import NotFound
from saltanvil.session.document.path import Match
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import Edit, EditRefused
from saltanvil.session.edits.values import Set
from saltanvil.session.format import read_edit, read_session, written
from saltanvil.session.matches import matches_of, with_matches
from saltanvil.session.wording import in_words
from saltanvil.store.database import Database
from saltanvil.store.history import dumped, matches_at, note_matches, renew, walk, written_change
from saltanvil.store.parts import Part, bring

#: Sound is stored as 32-bit float.
BYTES_A_SAMPLE = 4


@dataclass(frozen=True)
class Listed:
    """length_s: of the longest track; media_bytes: what its sound takes up, also where other sessions share it."""

    id: int
    name: str
    changed_at: float
    deleted: bool
    length_s: float
    media_bytes: int


@dataclass(frozen=True)
class HistoryEntry:
    """An edit of the history. made_at: seconds since 1970; None, and no words, for edits of earlier versions."""

    position: int
    made_at: float | None
    words: str | None
    undone: bool


@dataclass(frozen=True)
class Version:
    """A session as it stands: the revision grows with every change, undo and redo included.

    notices: what was left out when it was read. undo, redo: what they would undo or redo, in words.
    """

    id: int
    revision: int
    session: Session
    can_undo: bool
    can_redo: bool
    notices: tuple[str, ...] = ()
    undo: str | None = None
    redo: str | None = None


class SessionStore:
    """Every edit is stored, with what it did to the document, in the transaction that changes the document.

    `position` counts the edits that are in force; those after it can be redone until a new edit drops them.
    """

    def __init__(self, database: Database) -> None:
        self.database = database
        self._lock = threading.Lock()
        self._locks: dict[int, threading.Lock] = {}
        self._current: dict[int, Version] = {}
        #: The version before the last edit and that edit's place: what a drag begins from.
        self._bases: dict[int, tuple[int, Session]] = {}
        #: Sessions whose history is of the present format.
        self._renewed: set[int] = set()

    def _locked(self, session_id: int) -> threading.Lock:
        """Each session has a lock of its own: one's long edit never holds up another's."""
        with self._lock:
            return self._locks.setdefault(session_id, threading.Lock())

    def listed(self) -> list[Listed]:
        """All sessions, the last changed first, deleted ones included."""
        connection = self.database.connection()
        media = {
            row["id"]: (row["frames"] / row["rate_hz"], row["frames"] * row["channels"] * BYTES_A_SAMPLE)
            for row in connection.execute("SELECT id, frames, rate_hz, channels FROM media WHERE ready = 1")
        }
        rows = connection.execute(
            "SELECT sessions.id AS id, name, changed_at, deleted_at, "
            "CASE WHEN json_valid(document) THEN "
            "(SELECT json_group_array(json_array(value ->> 'media_id', value ->> 'start_s')) "
            "FROM json_each(document, '$.strips') WHERE value ->> 'media_id' IS NOT NULL) END AS tracks "
            "FROM sessions ORDER BY changed_at DESC, id DESC"
        )
        result = []
        for row in rows:
            tracks = [(number, start or 0.0) for number, start in json.loads(row["tracks"] or "[]") if number in media]
            length_s = max((start + media[number][0] for number, start in tracks), default=0.0)
            size = sum(media[number][1] for number in {number for number, _ in tracks})
            result.append(Listed(row["id"], row["name"], row["changed_at"], row["deleted_at"] is not None, length_s, size))
        return result

    def create(self, session: Session, changed_at: float | None = None) -> int:
        """changed_at: seconds since 1970; now, if not given."""
        with self.database.transaction() as connection:
            cursor = connection.execute(
                "INSERT INTO sessions (name, document, changed_at) VALUES (?, ?, ?)",
                (session.name, written(session), time.time() if changed_at is None else changed_at),
            )
        return int(cursor.lastrowid or 0)

    def duplicate(self, session_id: int) -> int:
        """A copy under a name of its own; it shares the media and starts without a past."""
        session = self.version(session_id).session
        return self.create(session.model_copy(update={"name": self.free_name(f"{session.name[:110]} copy")}))

    def free_name(self, name: str) -> str:
        """The name itself, or where a session is called so already, with the first number that is free behind it."""
        taken = {row.name for row in self.listed() if not row.deleted}
        numbered = (f"{name[:114]} {number}" for number in count(2))
        return name if name not in taken else next(other for other in numbered if other not in taken)

    def set_deleted(self, session_id: int, deleted: bool) -> None:
        """Delete, or take it back: a deleted session keeps everything."""
        with self.database.transaction() as connection:
            result = connection.execute(
                "UPDATE sessions SET deleted_at = ? WHERE id = ?", (time.time() if deleted else None, session_id)
            )
        if not result.rowcount:
            raise NotFound(f"there is no session {session_id}")

    def version(self, session_id: int) -> Version:
        """Raises NotFound, Unreadable."""
        result = self._current.get(session_id)
        if result is not None:
            return result
        with self._locked(session_id):
            return self._version(session_id)

    def _version(self, session_id: int) -> Version:
        result = self._current.get(session_id)
        if result is None:
            connection = self.database.connection()
            row = connection.execute(
                "SELECT name, document, revision, position FROM sessions WHERE id = ?", (session_id,)
            ).fetchone()
            if row is None:
                raise NotFound(f"there is no session {session_id}; choose one from the list")
            last = self._last(connection, session_id)
            session, notices = read_session(row["document"], row["name"])
            undo, redo = self._words(connection, session_id, row["position"])
            result = Version(
                session_id, row["revision"], session, row["position"] > 0, row["position"] < last, tuple(notices), undo, redo
            )
            self._current[session_id] = result
        return result

    def edit(
        self, session_id: int, edit: Edit, gesture: str | None = None, check: Callable[[Session], None] = lambda session: None
    ) -> Version:
        """Apply and store one edit. check: told of the changed session before it is stored, and may refuse it.

        Edits of one gesture (a drag) that move the same values are one edit: the newer takes the place of the older, from
        the state before the gesture on, and they are undone together. An edit that changes nothing is not stored, and a drag
        that ends where it began is none.

        Raises EditRefused (nothing changed), NotFound, Unreadable, StoreError (nothing changed).
        """
        with self._locked(session_id):
            version = self._version(session_id)
            connection = self.database.connection()
            position = self._open_position(connection, session_id)
            last = connection.execute(
                "SELECT edit, gesture, matches_before FROM edits WHERE session_id = ? AND seq = ?", (session_id, position)
            ).fetchone()
            begun = last is not None and gesture is not None and last["gesture"] == gesture and self._continues(last, edit)
            base = self._before(connection, version, position) if begun else version.session
            plain = apply(base, edit)
            matches = matches_of(version.session)
            if begun:
                changed, matches_before = with_matches(plain, matches), last["matches_before"]
            else:
                changed, matches_before = plain, dumped(matches)
                position += 1
            check(changed)
            change = difference(base, plain)
            if not change["of"]:
                return self._without_last(version, changed, position) if begun else version
            words = in_words(edit, base, changed)
            with self.database.transaction() as connection:
                connection.execute("DELETE FROM edits WHERE session_id = ? AND seq >= ?", (session_id, position))
                connection.execute(
                    "INSERT INTO edits (session_id, seq, edit, change, gesture, matches_before, made_at, words)"
                    " VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                    (
                        session_id, position, written(edit), written_change(change), gesture, matches_before, time.time(), words,
                    ),
                )  # fmt: skip
                self._write(connection, session_id, changed, version.revision + 1, position)
            self._bases[session_id] = position, base
            return self._keep(Version(session_id, version.revision + 1, changed, True, False, undo=words))

    def _without_last(self, version: Version, session: Session, position: int) -> Version:
        """The last edit, at this position, has been taken back by the hand that made it."""
        with self.database.transaction() as connection:
            connection.execute("DELETE FROM edits WHERE session_id = ? AND seq >= ?", (version.id, position))
            self._write(connection, version.id, session, version.revision + 1, position - 1)
        undo, _ = self._words(connection, version.id, position - 1)
        return self._keep(Version(version.id, version.revision + 1, session, position > 1, False, undo=undo))

    def _before(self, connection: sqlite3.Connection, version: Version, position: int) -> Session:
        """The version before the last edit."""
        at, base = self._bases.get(version.id, (-1, version.session))
        return base if at == position else walk(connection, version.id, version.session, position, position - 1).session

    @staticmethod
    def _continues(last: sqlite3.Row, edit: Edit) -> bool:
        """Whether an edit moves just what the last one of its gesture did."""
        begun = read_edit(last["edit"])
        return edit.targets is not None and type(edit) is type(begun) and edit.targets == begun.targets

    def settle(self, session_id: int, matches: Mapping[str, Match]) -> Version:
        """Keep what was measured to hold the loudness, by the steps' ids.

        This is no edit of its own: it belongs to the edit that caused it, which remembers the matches before it, and those
        after it when it is undone.
        """
        with self._locked(session_id):
            version = self._version(session_id)
            session = with_matches(version.session, matches)
            with self.database.transaction() as connection:
                position = self._position(connection, session_id)
                self._write(connection, session_id, session, version.revision + 1, position)
            return self._keep(replace(version, revision=version.revision + 1, session=session))

    def undo(self, session_id: int, part: Part | None = None) -> Version:
        """The last edit, or the last that is about a part. Raises EditRefused if there is nothing to undo."""
        return self._step(session_id, -1, part)

    def redo(self, session_id: int, part: Part | None = None) -> Version:
        """Raises EditRefused if there is nothing to redo."""
        return self._step(session_id, 1, part)

    def go_to(self, session_id: int, position: int) -> Version:
        """Undo or redo until so many edits are in force, in one step. Raises EditRefused if there are not so many."""
        with self._locked(session_id):
            return self._go(session_id, position)

    def _step(self, session_id: int, by: int, part: Part | None) -> Version:
        with self._locked(session_id):
            version = self._version(session_id)
            if not (version.can_undo if by < 0 else version.can_redo):
                raise EditRefused("there is nothing to undo" if by < 0 else "there is nothing to redo")
            position = self._open_position(self.database.connection(), session_id)
            if part is not None:
                with self.database.transaction() as connection:
                    bring(connection, session_id, position, part, by < 0, dumped(matches_of(version.session)))
                self._bases.pop(session_id, None)
            return self._go(session_id, position + by)

    def _go(self, session_id: int, to: int) -> Version:
        """`go_to` of a session that is locked."""
        version = self._version(session_id)
        connection = self.database.connection()
        position = self._open_position(connection, session_id)
        last = self._last(connection, session_id)
        if not 0 <= to <= last:
            raise EditRefused(f"the history has {last} edits; there is no place {to} in it")
        if to == position:
            return version
        way = walk(connection, session_id, version.session, position, to)
        with self.database.transaction() as connection:
            note_matches(connection, session_id, position, matches_of(version.session))
            changed = with_matches(way.session, matches_at(connection, session_id, to))
            # A gesture ends with an undo or a redo: what comes after it under the same word is another.
            connection.execute("UPDATE edits SET gesture = NULL WHERE session_id = ? AND gesture IS NOT NULL", (session_id,))
            connection.executemany(
                "UPDATE edits SET change = ? WHERE session_id = ? AND seq = ?",
                [(written_change(change), session_id, seq) for seq, change in way.learnt.items()],
            )
            self._write(connection, session_id, changed, version.revision + 1, to)
        undo, redo = self._words(connection, session_id, to)
        return self._keep(Version(session_id, version.revision + 1, changed, to > 0, to < last, undo=undo, redo=redo))

    @staticmethod
    def _words(connection: sqlite3.Connection, session_id: int, position: int) -> tuple[str | None, str | None]:
        """Of the edit that would be undone next, and of the one that would be redone."""
        rows = connection.execute(
            "SELECT seq, words FROM edits WHERE session_id = ? AND seq IN (?, ?)", (session_id, position, position + 1)
        )
        words = {row["seq"]: row["words"] for row in rows}
        return words.get(position), words.get(position + 1)

    def history(self, session_id: int, limit: int) -> list[HistoryEntry]:
        """The last edits, the newest first, those that were undone included. Raises NotFound, Unreadable."""
        self.version(session_id)
        connection = self.database.connection()
        position = self._position(connection, session_id)
        rows = connection.execute(
            "SELECT seq, made_at, words FROM edits WHERE session_id = ? ORDER BY seq DESC LIMIT ?", (session_id, limit)
        )
        return [HistoryEntry(row["seq"], row["made_at"], row["words"], row["seq"] > position) for row in rows]

    def session_at(self, session_id: int, position: int) -> Session:
        """The session as it was with so many edits in force; nothing is changed. Raises EditRefused, NotFound."""
        with self._locked(session_id):
            session = self._version(session_id).session
            connection = self.database.connection()
            return walk(connection, session_id, session, self._position(connection, session_id), position).session

    @staticmethod
    def _last(connection: sqlite3.Connection, session_id: int) -> int:
        """How many edits the history has, those that were undone included."""
        return int(connection.execute("SELECT max(seq) FROM edits WHERE session_id = ?", (session_id,)).fetchone()[0] or 0)

    def _open_position(self, connection: sqlite3.Connection, session_id: int) -> int:
        """How many edits are in force in a session that is about to change. Raises EditRefused for a deleted session."""
        row = connection.execute("SELECT position, deleted_at FROM sessions WHERE id = ?", (session_id,)).fetchone()
        if row["deleted_at"] is not None:
            raise EditRefused("this session was deleted; restore it before you change it")
        if session_id not in self._renewed:
            with self.database.transaction() as connection:
                renew(connection, session_id)
            self._renewed.add(session_id)
        return int(row["position"])

    @staticmethod
    def _position(connection: sqlite3.Connection, session_id: int) -> int:
        return int(connection.execute("SELECT position FROM sessions WHERE id = ?", (session_id,)).fetchone()[0])

    @staticmethod
    def _write(connection: sqlite3.Connection, session_id: int, session: Session, revision: int, position: int) -> None:
        connection.execute(
            "UPDATE sessions SET name = ?, document = ?, revision = ?, position = ?, changed_at = ? WHERE id = ?",
            (session.name, written(session), revision, position, time.time(), session_id),
        )

    def _keep(self, version: Version) -> Version:
        self._current[version.id] = version
        return version

    def rename(self, session_id: int, name: str) -> Version:
        """An edit like any other, so it can be undone."""
        return self.edit(session_id, Set(values=[Moved(of="session", name="name", value=name)]))
