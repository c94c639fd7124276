"""What all of a document is made with: names, limits, and how its data is written."""

import secrets
from typing import Annotated, Any, Literal

from pydantic import (
    BaseModel,
    ConfigDict,
    Field,
)

from saltanvil.errors import UserError

#: Strips of a session.
MAX_STRIPS = 500
Rate = Literal[44100, 48000, 88200, 96000]
Name = Annotated[str, Field(min_length=1, max_length=120)]
MAX_ID = 40
Id = Annotated[str, Field(min_length=1, max_length=MAX_ID, pattern=r"^[A-Za-z0-9_-]+$")]


class Part(BaseModel):
    """Base of the document's parts: no unknown names, no NaN, nothing left unchecked on assignment."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False, validate_assignment=True)


MAX_STEPS = 64
MAX_LANES = 8
#: Steps and lanes of one path, and splits within splits.
MAX_PARTS, MAX_DEPTH = 400, 8
MAX_SENDS = 32
MAX_SECTIONS = 200
MAX_LINKS = 200
MAIN_ID = "main"


def new_id() -> str:
    """A name that no other object has."""
    return secrets.token_hex(6)


def without_none(data: dict[str, Any], name: str) -> dict[str, Any]:
    """A part's data without a field that is None."""
    if data.get(name) is None:
        data.pop(name, None)
    return data


def without_empty(data: dict[str, Any], *names: str) -> dict[str, Any]:
    """A part's data without fields that hold nothing."""
    for name in names:
        if not data.get(name):
            data.pop(name, None)
    return data


class NotFound(UserError, LookupError):
    """An object of that name is not there (any more)."""
