"""Delivery checks, kept with their session: the last one of each."""

import time

from pydantic import BaseModel, Field

from saltanvil.measure.figures import Figures
from saltanvil.store.database import Database
from saltanvil.studies.ceiling import Ceilings
from saltanvil.studies.delivery_check import Checked


class MeasuredSection(BaseModel):
    """A section of the master that was checked."""

    id: str
    name: str
    start_s: float
    end_s: float
    figures: Figures


class SparedLimiting(BaseModel):
    """The master with less input gain in its last limiter."""

    by_db: float
    figures: Figures


class KeptCheck(BaseModel):
    """What was found. digest: of the version it is about; ceiling_digest: of that of the ceilings, which may be measured
    later."""

    digest: str
    checked: Checked | None = None
    sections: list[MeasuredSection] = Field(default_factory=list)
    spared: SparedLimiting | None = None
    ceilings: Ceilings | None = None
    ceiling_digest: str = ""
    made_at: float = 0.0


class DeliveryStore:
    def __init__(self, database: Database) -> None:
        self.database = database

    def keep(self, session_id: int, check: KeptCheck) -> KeptCheck:
        """In place of the last one; returns it with its time."""
        check = check.model_copy(update={"made_at": time.time()})
        with self.database.transaction() as connection:
            connection.execute(
                "INSERT OR REPLACE INTO delivery_checks (session_id, made_at, result) VALUES (?, ?, ?)",
                (session_id, check.made_at, check.model_dump_json()),
            )
        return check

    def of(self, session_id: int) -> KeptCheck | None:
        row = (
            self.database.connection()
            .execute("SELECT result FROM delivery_checks WHERE session_id = ?", (session_id,))
            .fetchone()
        )
        return None if row is None else KeptCheck.model_validate_json(row["result"])
