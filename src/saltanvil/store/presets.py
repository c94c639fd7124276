"""Settings and paths that users keep, by processor and name."""

import sqlite3
import time
from dataclasses import dataclass
from typing import Any

from saltanvil.errors import UserError
from saltanvil.processors import Settings
from saltanvil.session.document.base import NotFound
from saltanvil.session.document.path import Path
from saltanvil.session.format import Unreadable, read_preset, written
from saltanvil.store.database import Database


class PresetRefused(UserError, ValueError):
    """The preset cannot be kept under that name or with those settings; the message says why."""


@dataclass(frozen=True)
class Preset:
    """problem: why it cannot be used, or what was left out of it; unusable ones have no settings. session_id: the session that
    has it; None: every session."""

    id: int
    kind: str
    name: str
    settings: dict[str, Any]
    problem: str | None = None
    session_id: int | None = None


@dataclass(frozen=True)
class Kept:
    """What is to be kept as a preset."""

    kind: str
    name: str
    settings: Settings | Path
    session_id: int | None = None


class PresetStore:
    """Deleted presets can be brought back, unless their name was given to another meanwhile."""

    def __init__(self, database: Database) -> None:
        self.database = database

    def listed(self, kind: str | None = None, session_id: int | None = None) -> list[Preset]:
        """Those of every session, and of one, in the order of their names; those that cannot be used too, with the reason."""
        rows = self.database.connection().execute(
            "SELECT id, kind, name, settings, session_id FROM presets WHERE deleted_at IS NULL AND (?1 IS NULL OR kind = ?1) "
            "AND (session_id IS NULL OR session_id = ?2) ORDER BY kind, name COLLATE NOCASE, session_id",
            (kind, session_id),
        )
        return [preset_of(row) for row in rows]

    def preset(self, preset_id: int) -> Preset:
        """Raises NotFound."""
        connection = self.database.connection()
        row = connection.execute("SELECT id, kind, name, settings, session_id FROM presets WHERE id = ?", (preset_id,)).fetchone()
        if row is None:
            raise NotFound(f"there is no preset {preset_id}")
        return preset_of(row)

    def save(self, kept: Kept, replace: bool = True) -> Preset:
        """Keep settings under a name. Raises PresetRefused if there is one of that name already and it is not to be replaced."""
        return self.save_all([kept], replace)[0]

    def save_all(self, presets: list[Kept], replace: bool = True) -> list[Preset]:
        """All or none."""
        result = []
        with self.database.transaction() as connection:
            for kept in presets:
                name = kept.kind, kept.name, kept.session_id
                gone = connection.execute(
                    "DELETE FROM presets WHERE kind = ? AND name = ? AND session_id IS ? AND deleted_at IS NULL", name
                )
                if gone.rowcount and not replace:
                    raise PresetRefused(f"there is a preset {kept.name!r} already; replace it, or choose another name")
                cursor = connection.execute(
                    "INSERT INTO presets (kind, name, settings, changed_at, session_id) VALUES (?, ?, ?, ?, ?)",
                    (kept.kind, kept.name, written(kept.settings), time.time(), kept.session_id),
                )
                result.append(int(cursor.lastrowid or 0))
        return [self.preset(number) for number in result]

    def rename(self, preset_id: int, name: str) -> Preset:
        old = self.preset(preset_id)
        try:
            with self.database.transaction() as connection:
                connection.execute("UPDATE presets SET name = ?, changed_at = ? WHERE id = ?", (name, time.time(), preset_id))
        except sqlite3.IntegrityError as error:
            raise PresetRefused(f"there is a preset {name!r} for the {old.kind} already; choose another name") from error
        return self.preset(preset_id)

    def set_deleted(self, preset_id: int, deleted: bool) -> None:
        old = self.preset(preset_id)
        try:
            with self.database.transaction() as connection:
                connection.execute(
                    "UPDATE presets SET deleted_at = ? WHERE id = ?", (time.time() if deleted else None, preset_id)
                )
        except sqlite3.IntegrityError as error:
            raise PresetRefused(f"{old.name!r} cannot come back: its name was given to another preset") from error


def preset_of(row: sqlite3.Row) -> Preset:
    settings: dict[str, Any] = {}
    try:
        read, left_out = read_preset(row["kind"], row["settings"], row["name"])
        settings, problem = read.model_dump(mode="json"), " ".join(left_out) or None
    except Unreadable as error:
        problem = str(error)
    return Preset(row["id"], row["kind"], row["name"], settings, problem, row["session_id"])
