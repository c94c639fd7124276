"""What all parts of the document are made of."""

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

#: Strips of a session.
MAX_STRIPS = 500

Rate = Literal[44100, 48000, 88200, 96000]
Name = Annotated[str, Field(min_length=1, max_length=120)]
Id = Annotated[str, Field(min_length=1, max_length=40, pattern=r"^[A-Za-z0-9_-]+$")]


class Part(BaseModel):
    """Base of the document's parts: no unknown names, no NaN, nothing left unchecked on assignment."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False, validate_assignment=True)
