"""Results of blind comparisons, kept with their session."""

import time

from saltanvil.store.database import Database
from saltanvil.studies.blind import BlindResult


class ComparisonStore:
    def __init__(self, database: Database) -> None:
        self.database = database

    def add(self, session_id: int, result: BlindResult) -> BlindResult:
        """Keep a result; returns it with its time."""
        result = result.model_copy(update={"made_at": time.time()})
        with self.database.transaction() as connection:
            connection.execute(
                "INSERT INTO comparisons (session_id, made_at, result) VALUES (?, ?, ?)",
                (session_id, result.made_at, result.model_dump_json()),
            )
        return result

    def listed(self, session_id: int) -> list[BlindResult]:
        """The newest first."""
        rows = self.database.connection().execute(
            "SELECT result FROM comparisons WHERE session_id = ? ORDER BY made_at DESC, id DESC", (session_id,)
        )
        return [BlindResult.model_validate_json(row["result"]) for row in rows]
