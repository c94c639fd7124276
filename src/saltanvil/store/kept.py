"""What is kept besides documents: results, each as JSON with the number of its format.

An older result is migrated, a newer or damaged one is set aside with a sentence: it stays where it is, and nobody fails over it.
"""

import json
from collections.abc import Callable, Mapping
from typing import Any, Generic, TypeVar

from pydantic import BaseModel

from saltanvil.session.format import Unreadable, data_of, too_deep

M = TypeVar("M", bound=BaseModel)
Data = dict[str, Any]
Migration = Callable[[Data], Data]


class Format(Generic[M]):
    """A sort of result. migrations: by the number of the format they start from; the newest is one more than the last."""

    def __init__(self, model: type[M], what: str, migrations: Mapping[int, Migration]) -> None:
        self.model, self.what, self.migrations = model, what, migrations
        self.number = 1 + max(migrations, default=0)

    def written(self, result: M) -> str:
        return json.dumps({"format": self.number, **result.model_dump(mode="json")}, separators=(",", ":"))

    def read(self, text: str) -> M:
        """Raises Unreadable: why it is set aside, and what to do."""
        data = data_of(text, self.what)
        number = data.pop("format", 1)
        if not isinstance(number, int) or isinstance(number, bool) or number < 1:
            raise Unreadable(f"{self.what} is set aside: {number!r} is no number of a format; make it anew")
        if number > self.number:
            raise Unreadable(
                f"{self.what} was kept by a newer Salt Anvil (format {number}; this one reads up to {self.number}); "
                "update it, or make it anew"
            )
        try:
            while number < self.number:
                data = self.migrations[number](data)
                number += 1
            if too_deep(data):
                raise ValueError("damaged")
            return self.model.model_validate(data)
        except (ValueError, LookupError, TypeError, AttributeError) as error:
            raise Unreadable(f"{self.what} was kept by an earlier version and cannot be read any more; make it anew") from error
