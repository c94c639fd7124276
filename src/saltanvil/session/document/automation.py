"""What moves over time: envelopes of breakpoints, and levers that move several settings."""

from typing import Annotated, Literal

from pydantic import (
    Field,
    SerializerFunctionWrapHandler,
    model_serializer,
    model_validator,
)

from saltanvil.processors.descriptor import described, rule
from saltanvil.session.document.base import MAX_SECTIONS, Id, Name, Part, new_id, without_empty

#: Points of one envelope, and the latest of them in seconds.
MAX_POINTS, MAX_POINT_S = 4000, 86400.0
#: A setting's name in its object; one of a list as in `dividers_hz.1`.
SettingName = Annotated[str, Field(min_length=1, max_length=60, pattern=r"^[a-z][a-z0-9_]*(\.[0-9]{1,2})?$")]
#: Of what a value is. A key's object is the step that listens to it; a session's has no name.
Owner = Literal["session", "strip", "send", "step", "lane", "key", "lever"]
#: How a value goes from one point to the next.
PointShape = Literal["hold", "linear", "curve"]


class Breakpoint(Part):
    """A point of an envelope. value: in the setting's unit, of a switch 0 or 1; shape: of the way to the next point; bend: of a
    curve, from -1 (late) over 0 (straight) to 1 (early)."""

    id: Id = Field(default_factory=new_id)
    at_s: float = Field(ge=0.0, le=MAX_POINT_S)
    value: float
    shape: PointShape = "linear"
    bend: float = Field(default=0.0, ge=-1.0, le=1.0)


class Envelope(Part):
    """A setting's course over the session: breakpoints, or one value a section.

    points: in order of time; before the first and after the last the value stays. sections: values by section; elsewhere the
    document's value holds. ramp_beats: length of the way from one section's value to the next, centred on the border; 0 is hard.
    bypass: as if it were not there.
    """

    points: list[Breakpoint] = Field(default_factory=list, max_length=MAX_POINTS)
    sections: dict[Id, float] = Field(default_factory=dict, max_length=MAX_SECTIONS)
    ramp_beats: float = Field(default=1.0, ge=0.0, le=64.0)
    bypass: bool = False

    @model_validator(mode="after")
    def one_face(self) -> "Envelope":
        if self.points and self.sections:
            raise ValueError("an envelope has points or section values, not both; turn one into the other first")
        if len({point.id for point in self.points}) != len(self.points):
            raise ValueError("two points of an envelope have the same id")
        if any(after.at_s < before.at_s for before, after in zip(self.points, self.points[1:], strict=False)):
            raise ValueError("the points of an envelope stand in order of time")
        return self


class Automated(Part):
    """A part whose settings can move over time. envelopes: by the setting's name."""

    envelopes: dict[SettingName, Envelope] = Field(default_factory=dict)

    @property
    def muted(self) -> bool:
        """Whether its mute is on for good; one that moves over time is on and off."""
        return bool(getattr(self, "mute", False)) and "mute" not in self.envelopes

    @model_serializer(mode="wrap")
    def without_empty_envelopes(self, dump: SerializerFunctionWrapHandler):  # type: ignore[no-untyped-def]
        return without_empty(dump(self), "envelopes")


#: Settings that one lever moves.
MAX_TARGETS = 16
MAX_LEVERS = 32


class LeverTarget(Part):
    """A setting that a lever moves. by: how far at 100 %, in the setting's unit, or (of a logarithmic scale) times how much.
    bend: of its way there, from -1 (late) over 0 (straight) to 1 (early)."""

    of: Owner
    id: Id | None = None
    name: SettingName
    by: float
    bend: float = Field(default=0.0, ge=-1.0, le=1.0)


class Lever(Automated):
    """One control that moves several settings, each over a range of its own, on top of what the document says of them."""

    id: Id = Field(default_factory=new_id)
    name: Name = described(..., "text", "Name", "", "Lever", "What the lever is called.")
    value: float = rule(
        0.0, "Lever", "%", 0.0, 1.0, "Lever", "How far all its settings are moved, from 0 % (as they stand) to 100 %.",
        ticks=(0, 0.25, 0.5, 0.75, 1),
    )  # fmt: skip
    targets: list[LeverTarget] = Field(default_factory=list, max_length=MAX_TARGETS)

    @model_validator(mode="after")
    def once_each(self) -> "Lever":
        names = [(target.of, target.id, target.name) for target in self.targets]
        if len(set(names)) != len(names):
            raise ValueError(f"the lever {self.name!r} moves a setting twice; keep one of them")
        return self
