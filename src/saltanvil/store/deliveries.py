"""Delivery checks, kept with their session: the last one of each."""

import time
from typing import Any

from saltanvil.session.format import Unreadable
from saltanvil.store.database import Database
from saltanvil.store.kept import Format
from saltanvil.studies.delivery.master import KeptCheck


def with_plr(data: dict[str, Any]) -> dict[str, Any]:
    """Format 1, until 2026-12, knew no peak to loudness: it follows from the other figures, wherever they stand."""

    def mended(part: Any) -> Any:
        if isinstance(part, list):
            return [mended(item) for item in part]
        if not isinstance(part, dict):
            return part
        part = {name: mended(item) for name, item in part.items()}
        if "true_peak_dbtp" in part and "integrated_lufs" in part and "floor_dbfs" in part:
            loudness = part["integrated_lufs"]
            part.setdefault("plr_lu", None if loudness is None else part["true_peak_dbtp"] - loudness)
        return part

    result: dict[str, Any] = mended(data)
    return result


CHECK = Format(KeptCheck, "The delivery check of this session", {1: with_plr})


class DeliveryStore:
    def __init__(self, database: Database) -> None:
        self.database = database

    def keep(self, session_id: int, check: KeptCheck) -> KeptCheck:
        """In place of the last one; returns it with its time."""
        check = check.model_copy(update={"made_at": time.time()})
        with self.database.transaction() as connection:
            connection.execute(
                "INSERT OR REPLACE INTO delivery_checks (session_id, made_at, result) VALUES (?, ?, ?)",
                (session_id, check.made_at, CHECK.written(check)),
            )
        return check

    def last(self, session_id: int) -> tuple[KeptCheck | None, str | None]:
        """The last one, if there is one; and in words, if it is set aside."""
        try:
            return self.of(session_id), None
        except Unreadable as error:
            return None, str(error)

    def of(self, session_id: int) -> KeptCheck | None:
        """The last one; None if there is none. Raises Unreadable if it is set aside."""
        row = (
            self.database.connection()
            .execute("SELECT result FROM delivery_checks WHERE session_id = ?", (session_id,))
            .fetchone()
        )
        return None if row is None else CHECK.read(row["result"])
