"""The session as a Pydantic model. A path file is the same `Path` the strips hold."""

import secrets
from collections.abc import Iterator
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, SerializeAsAny, model_validator

from saltanvil.processors import Settings, processor_named

Rate = Literal[44100, 48000, 88200, 96000]
Name = Annotated[str, Field(min_length=1, max_length=120)]
Id = Annotated[str, Field(min_length=1, max_length=40, pattern=r"^[A-Za-z0-9_-]+$")]

MAX_STEPS = 64
MAX_STRIPS = 200
MAX_SECTIONS = 200
MAIN_ID = "main"


def new_id() -> str:
    """A name that no other object has."""
    return secrets.token_hex(6)


class Part(BaseModel):
    """Base of the document's parts: no unknown names, no NaN, nothing left unchecked on assignment."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False, validate_assignment=True)


class Step(Part):
    """One item of a path: a processor with its settings."""

    id: Id = Field(default_factory=new_id)
    kind: str
    bypass: bool = False
    settings: SerializeAsAny[Settings]

    @model_validator(mode="before")
    @classmethod
    def settings_by_kind(cls, given: Any) -> Any:
        if not isinstance(given, dict) or not isinstance(given.get("kind"), str):
            return given
        model = processor_named(given["kind"]).settings_model
        settings = given.get("settings", {})
        if isinstance(settings, model):
            return given
        return {
            **given,
            "settings": model.model_validate(settings.model_dump() if isinstance(settings, Settings) else settings),
        }


class Path(Part):
    """The ordered steps of a strip."""

    steps: list[Step] = Field(default_factory=list, max_length=MAX_STEPS)


class Section(Part):
    """A named stretch of time."""

    id: Id = Field(default_factory=new_id)
    name: Name
    start_s: float = Field(ge=0.0)
    end_s: float = Field(gt=0.0)

    @model_validator(mode="after")
    def forwards(self) -> "Section":
        if self.end_s <= self.start_s:
            raise ValueError(f"section {self.name!r} must end after it starts")
        return self


class Strip(Part):
    """A track, a bus or the main.

    Pan of a mono track: equal power, -3.01 dB at the centre. Of a stereo strip: balance by the same law, scaled so
    that the centre leaves both sides as they are and neither is ever raised.
    """

    id: Id = Field(default_factory=new_id)
    name: Name
    kind: Literal["track", "bus", "main"]
    media_id: int | None = Field(default=None, ge=0, le=1 << 53)
    start_s: float = Field(default=0.0, ge=0.0, le=86400.0)
    trim_db: float = Field(default=0.0, ge=-60.0, le=24.0)
    path: Path = Field(default_factory=Path)
    level_db: float = Field(default=0.0, ge=-90.0, le=12.0)
    pan: float = Field(default=0.0, ge=-1.0, le=1.0)
    mute: bool = False
    solo: bool = False
    output: Id | None = MAIN_ID


class Session(Part):
    """One piece of work."""

    name: Name
    rate_hz: Rate = 48000
    tempo_bpm: float = Field(default=120.0, ge=20.0, le=300.0)
    beats_in_bar: int = Field(default=4, ge=1, le=16)
    sections: list[Section] = Field(default_factory=list, max_length=MAX_SECTIONS)
    strips: list[Strip] = Field(
        default_factory=lambda: [Strip(id=MAIN_ID, name="Main", kind="main", output=None)], max_length=MAX_STRIPS
    )

    def strip(self, strip_id: str) -> Strip:
        """Raises LookupError with the name of what is missing."""
        for strip in self.strips:
            if strip.id == strip_id:
                return strip
        raise LookupError(f"there is no strip {strip_id!r} in this session; it may have been removed in another tab")

    def step(self, step_id: str) -> tuple[Strip, int]:
        """The strip a step is on and its place there. Raises LookupError."""
        for strip in self.strips:
            for index, step in enumerate(strip.path.steps):
                if step.id == step_id:
                    return strip, index
        raise LookupError(f"there is no step {step_id!r} in this session; it may have been removed in another tab")

    def feeding(self, strip_id: str) -> Iterator[Strip]:
        """The strips whose output is this one, in order."""
        return (strip for strip in self.strips if strip.output == strip_id)

    @model_validator(mode="after")
    def sound(self) -> "Session":
        """One main, ids unique, every output an existing bus or the main, no loop."""
        by_id = {strip.id: strip for strip in self.strips}
        if len(by_id) != len(self.strips):
            raise ValueError("two strips have the same id")
        step_ids = [step.id for strip in self.strips for step in strip.path.steps]
        if len(set(step_ids)) != len(step_ids):
            raise ValueError("two steps have the same id")
        if sum(strip.kind == "main" for strip in self.strips) != 1 or MAIN_ID not in by_id or by_id[MAIN_ID].kind != "main":
            raise ValueError("a session has exactly one main")
        for strip in self.strips:
            if strip.kind == "main":
                continue
            seen = [strip.name]
            at = strip
            while at.kind != "main":
                if at.output is None or at.output not in by_id:
                    raise ValueError(f"{at.name!r} feeds a strip that does not exist; choose a bus or the main")
                at = by_id[at.output]
                if at.kind == "track":
                    raise ValueError(f"{seen[-1]!r} cannot feed {at.name!r}: a track takes no input; choose a bus or the main")
                if at is strip:
                    raise ValueError(f"this would close a loop: {' > '.join([*seen, strip.name])}")
                seen.append(at.name)
                if len(seen) > len(self.strips) + 1:
                    raise ValueError(f"this would close a loop among {', '.join(dict.fromkeys(seen))}")
        return self
