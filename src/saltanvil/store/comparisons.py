"""Results of blind comparisons, kept with their session."""

import time

from saltanvil.session.format import Unreadable
from saltanvil.store.database import Database
from saltanvil.store.kept import Format
from saltanvil.studies.blind import BlindResult

#: Format 1, until 2026-12, had no number; it is the same otherwise.
RESULT = Format(BlindResult, "A blind comparison of this session", {1: lambda data: data})


class ComparisonStore:
    def __init__(self, database: Database) -> None:
        self.database = database

    def add(self, session_id: int, result: BlindResult) -> BlindResult:
        """Keep a result; returns it with its time."""
        result = result.model_copy(update={"made_at": time.time()})
        with self.database.transaction() as connection:
            connection.execute(
                "INSERT INTO comparisons (session_id, made_at, result) VALUES (?, ?, ?)",
                (session_id, result.made_at, RESULT.written(result)),
            )
        return result

    def listed(self, session_id: int) -> tuple[list[BlindResult], list[str]]:
        """The newest first, and in words which are set aside."""
        rows = self.database.connection().execute(
            "SELECT result FROM comparisons WHERE session_id = ? ORDER BY made_at DESC, id DESC", (session_id,)
        )
        results, set_aside = [], []
        for row in rows:
            try:
                results.append(RESULT.read(row["result"]))
            except Unreadable as error:
                set_aside.append(str(error))
        return results, list(dict.fromkeys(set_aside))
