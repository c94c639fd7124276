"""What a listener says over the audition socket."""

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter

from saltanvil.engine.audition import Listening
from saltanvil.engine.monitor import MonitorName
from saltanvil.session.address import Moved
from saltanvil.session.apply import AnyEdit
from saltanvil.session.document.base import MAX_STRIPS, Id
from saltanvil.session.document.path import MAX_SLOTS, SlotNumber
from saltanvil.session.slots import SlotOwner


class Message(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class Play(Message):
    type: Literal["play"]
    position_s: float = Field(ge=0.0, le=1e6)


class Stop(Message):
    type: Literal["stop"]


class SetPassage(Message):
    type: Literal["passage"]
    start_s: float = Field(ge=0.0, le=1e6)
    end_s: float = Field(ge=0.0, le=1e6)
    loop: bool


class SetScope(Message):
    type: Literal["scope"]
    strip_id: str
    step_id: str | None = None
    lane_id: str | None = None


class Listen(Message):
    type: Literal["listen"]
    listening: Listening


class SetMatched(Message):
    type: Literal["matched"]
    on: bool


class SetOrder(Message):
    """The order of a strip's steps is compared with another one, and sounds as loud by this gain; 0 ends it."""

    type: Literal["order"]
    strip_id: str
    gain_db: float = Field(ge=-60.0, le=60.0)


class SetSlots(Message):
    """The gains by which the slots of a step, a lane or a strip's path are equally loud; whichever is on sounds by its own."""

    type: Literal["slots"]
    of: SlotOwner
    id: str = Field(max_length=64)
    gains_db: dict[SlotNumber, Annotated[float, Field(ge=-60.0, le=60.0)]] = Field(max_length=MAX_SLOTS)


class SetMonitor(Message):
    type: Literal["monitor"]
    monitor: MonitorName


class Move(Message):
    """Values as a control is moved: heard at once, and stored by an edit of the same gesture that follows. number: counts the
    moves of a tab, and the edit carries that of the move it stores."""

    type: Literal["move"]
    values: list[Moved] = Field(min_length=1, max_length=200)
    strips: list[Id] = Field(default_factory=list, max_length=MAX_STRIPS)
    gesture: str = Field(max_length=64)
    number: int = Field(ge=0, le=1 << 53)


class Try(Message):
    """An edit that sounds but is not made, such as a starting point under the cursor; null ends it. It may be refused."""

    type: Literal["try"]
    edit: AnyEdit | None


class Letter(Message):
    """What is to be heard of what sounds instead of the document: a letter of a blind comparison, a version of a delivery."""

    type: Literal["letter"]
    letter: str = Field(max_length=40)


class Heard(Message):
    type: Literal["heard"]
    epoch: int
    frames: int = Field(ge=0)
    underruns: int = Field(ge=0)
    late: int = Field(default=0, ge=0)


AnyMessage = (
    Play | Stop | SetPassage | SetScope | Listen | SetMatched | SetOrder | SetSlots | SetMonitor | Move | Try | Letter | Heard
)
MESSAGE: TypeAdapter[Any] = TypeAdapter(Annotated[AnyMessage, Field(discriminator="type")])
