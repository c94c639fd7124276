"""The session as a Pydantic model. A path file is the same `Path` the strips hold."""

import secrets
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated, Any, Generic, Literal, TypeVar

from pydantic import (
    Field,
    SerializeAsAny,
    SerializerFunctionWrapHandler,
    WithJsonSchema,
    model_serializer,
    model_validator,
)

from saltanvil.errors import UserError
from saltanvil.processors import Settings, processor_named
from saltanvil.processors.descriptor import choice, described, rule
from saltanvil.processors.split import SplitSettings
from saltanvil.session.delivery import Delivery
from saltanvil.session.part import MAX_STRIPS as MAX_STRIPS
from saltanvil.session.part import Id as Id
from saltanvil.session.part import Name as Name
from saltanvil.session.part import Part as Part
from saltanvil.session.part import Rate as Rate

MAX_STEPS = 64
MAX_LANES = 8
#: Steps and lanes of one path, and splits within splits.
MAX_PARTS, MAX_DEPTH = 400, 8
MAX_SENDS = 32
MAX_SECTIONS = 200
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


# ---- what moves over time ------------------------------------------------------------------------------------------------

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


class Stretch(Part):
    """A stretch of the session: a section by its name, seconds from start_s to end_s, or (neither) the whole song."""

    section_id: Id | None = None
    start_s: float | None = Field(default=None, ge=0.0, le=1e6)
    end_s: float | None = Field(default=None, gt=0.0, le=1e6)

    @model_validator(mode="after")
    def one_way(self) -> "Stretch":
        if (self.start_s is None) != (self.end_s is None):
            raise ValueError("a range has a start and an end")
        if self.start_s is not None and self.end_s is not None:
            if self.section_id is not None:
                raise ValueError("a stretch is a section or a range, not both")
            if self.end_s <= self.start_s:
                raise ValueError("a range must end after it starts")
        return self

    @property
    def whole(self) -> bool:
        return self.section_id is None and self.start_s is None


WHOLE_SONG = Stretch()


class Match(Part):
    """What was measured to hold the loudness of a steady blend or of an output (see `studies.match`).

    key: fingerprint of all that was heard by it, so that it is known to be out of date after an edit; empty if an earlier
    version measured it, over a passage that it did not keep. over: the stretch it was measured over; None likewise.
    matched_db: gain that brings the treated side to the loudness of the untreated one. gains_db: gain of a blend's sum
    at equally spaced positions, from untreated to treated. guessed_db: what an output's gain was taken for by its
    settings then; as they move on, so does the gain. refused: why no match is used, if none is.
    """

    key: str = Field(default="", max_length=64)
    over: Stretch | None = None
    matched_db: float = Field(default=0.0, ge=-120.0, le=120.0)
    guessed_db: float = Field(default=0.0, ge=-120.0, le=120.0)
    gains_db: list[float] = Field(default_factory=list, max_length=201)
    refused: str | None = Field(default=None, max_length=400)


class Key(Automated):
    """What a detector listens to instead of its own signal.

    The source is a step or a lane of any strip, or else a strip (the detector's own, if none is named), before or
    after its path. It is taken before level and pan, and a mute does not silence it unless `mutes` says so.
    """

    strip_id: Id | None = None
    step_id: Id | None = None
    lane_id: Id | None = None
    at: Literal["before", "after"] = "after"
    trim_db: float = rule(
        0.0, "Key trim", "dB", -60.0, 60.0, "Key", "Gain of the key before its filter; the sound itself does not change.",
        ticks=(-40, -20, 0, 20, 40),
    )  # fmt: skip
    mutes: bool = choice(False, "Follow source mute", "Key", "Otherwise the key goes on though its source is muted.")

    @model_validator(mode="after")
    def one_source(self) -> "Key":
        if sum(name is not None for name in (self.strip_id, self.step_id, self.lane_id)) > 1:
            raise ValueError("a key has one source: a strip, a step or a lane")
        return self

    @property
    def own(self) -> bool:
        """Whether the source is the strip that the detector is on."""
        return self.strip_id is None and self.step_id is None and self.lane_id is None


class Send(Automated):
    """A strip's sound to a bus besides its output: before or after the strip's level, at its pan."""

    id: Id = Field(default_factory=new_id)
    target: Id
    level_db: float = rule(
        0.0, "Level", "dB", -90.0, 12.0, "Send", "Level of the send; -90 dB is off.", ticks=(-48, -24, -12, 0), off_at=-90.0
    )
    pre: bool = choice(False, "Pre", "Send", "Taken before or after the strip's level.")
    mute: bool = choice(False, "Mute", "Send", "Silent.")


#: Versions of one scope.
MAX_SLOTS = 4
SlotNumber = Annotated[int, Field(ge=1, le=MAX_SLOTS)]
Content = TypeVar("Content", bound=Part)


class Slots(Part, Generic[Content]):
    """Up to four versions of a step, a lane or a strip's path, each a full copy of it.

    on: the slot that what sounds was stored into or taken from last; what was changed since is kept when another slot is
    switched to. kept: each slot's version; the object itself is what sounds.
    """

    on: SlotNumber | None = None
    kept: dict[SlotNumber, Content] = Field(default_factory=dict, max_length=MAX_SLOTS)

    @model_validator(mode="after")
    def plain(self) -> "Slots[Content]":
        if any(getattr(version, "slots", None) is not None for version in self.kept.values()):
            raise ValueError("a version in a slot has no slots of its own")
        return self

    def __reduce__(self) -> tuple[Any, ...]:
        """For another process, which has to find the class by what it is of."""
        return slots_of_kind, (self.__pydantic_generic_metadata__["args"], self.__getstate__())


def slots_of_kind(of: tuple[Any, ...], state: dict[Any, Any]) -> Slots[Any]:
    kind: Any = Slots.__class_getitem__(of) if of else Slots
    result: Slots[Any] = kind.__new__(kind)
    result.__setstate__(state)
    return result


class Lane(Automated):
    """One branch of a split. Bypass lets what enters it past its steps; solo is a matter of listening.

    output: a bus that gets the lane instead of the split's sum. linked: a setting moved in one linked lane moves by
    as much in the others.
    """

    id: Id = Field(default_factory=new_id)
    name: Name = described(..., "text", "Name", "", "Lane", "What the lane is called.")
    path: "Path" = Field(default_factory=lambda: Path())
    level_db: float = rule(
        0.0, "Level", "dB", -90.0, 24.0, "Lane", "Level of the lane in the sum; -90 dB is off.",
        ticks=(-48, -24, -12, 0, 12), off_at=-90.0,
    )  # fmt: skip
    invert: bool = choice(False, "Invert polarity", "Lane", "The waveform upside down.")
    mute: bool = choice(False, "Mute", "Lane", "Silent.")
    solo: bool = choice(False, "Solo", "Lane", "The other lanes are silent while you listen; never in a file.")
    bypass: bool = choice(False, "Bypass", "Lane", "The lane without its steps.", moves="structure")
    linked: bool = choice(False, "Linked", "Lane", "A setting moved in one linked lane moves by as much in the others.")
    output: Id | None = None
    slots: "Slots[Lane] | None" = None

    @model_serializer(mode="wrap")
    def without_slots(self, dump: SerializerFunctionWrapHandler):  # type: ignore[no-untyped-def]
        return without_empty(without_none(dump(self), "slots"), "envelopes")

    @property
    def bypassed(self) -> bool:
        """Whether its steps are out of the sound for good; a bypass that moves over time is a fade."""
        return self.bypass and "bypass" not in self.envelopes


class Step(Automated):
    """One item of a path: a processor with its settings, or a split (kind `split`) with its lanes."""

    id: Id = Field(default_factory=new_id)
    kind: str
    bypass: bool = choice(False, "Bypass", "Step", "The sound passes the step untreated, as late as before.", moves="structure")
    settings: Annotated[
        SerializeAsAny[Settings], WithJsonSchema({"type": "object", "additionalProperties": True, "title": "Settings"})
    ]
    lanes: list[Lane] = Field(default_factory=list, max_length=MAX_LANES)
    #: What was measured so that its loudness is held, and the stretch over which it is to be measured.
    match: Match | None = None
    match_over: Stretch = WHOLE_SONG
    #: What its detector listens to; None is its own signal.
    key: Key | None = None
    low_latency: bool = choice(
        False, "Low latency", "Step", "Lookahead and oversampling off; the editor says what that changes.", moves="latency"
    )
    slots: "Slots[Step] | None" = None

    @model_validator(mode="before")
    @classmethod
    def settings_by_kind(cls, data: Any) -> Any:
        if not isinstance(data, dict) or not isinstance(data.get("kind"), str):
            return data
        model = processor_named(data["kind"]).settings_model
        settings = data.get("settings", {})
        if isinstance(settings, model):
            return data
        return {
            **data,
            "settings": model.model_validate(settings.model_dump() if isinstance(settings, Settings) else settings),
        }

    @model_serializer(mode="wrap")
    def without_lanes(self, dump: SerializerFunctionWrapHandler):  # type: ignore[no-untyped-def]
        """Only a split tells of lanes, only what can have a key of a key, only what is measured of a match, only what has
        slots of slots.

        A declared return type would take the place of the model in the API's schema.
        """
        data = without_empty(without_none(dump(self), "slots"), "envelopes")
        if not processor_named(self.kind).keyed:
            data.pop("key", None)
        if self.kind != "split":
            data.pop("lanes", None)
        if not processor_named(self.kind).matched:
            data.pop("match", None)
            data.pop("match_over", None)
        return data

    @model_validator(mode="after")
    def lanes_by_kind(self) -> "Step":
        if self.key is not None and not processor_named(self.kind).keyed:
            raise ValueError(f"a {self.kind} has no detector that could listen to a key")
        if not isinstance(self.settings, SplitSettings):
            if self.lanes:
                raise ValueError(f"a {self.kind} has no lanes; only a split has")
            return self
        wanted = self.settings.lane_count()
        if not self.lanes:
            raise ValueError("a split has at least one lane")
        if wanted is not None and len(self.lanes) != wanted:
            raise ValueError(f"this split by {self.settings.by} has {wanted} lanes, not {len(self.lanes)}")
        return self

    @property
    def bypassed(self) -> bool:
        """Whether it is out of the sound for good; a bypass that moves over time is a fade."""
        return self.bypass and "bypass" not in self.envelopes

    @property
    def split(self) -> SplitSettings | None:
        """The settings of a split; None for a processor."""
        return self.settings if isinstance(self.settings, SplitSettings) else None

    @property
    def blended(self) -> bool:
        """Whether one control goes from the first lane, untreated, to the second, treated."""
        return self.split is not None and self.split.by == "copies" and self.split.blend and len(self.lanes) == 2


class Path(Part):
    """The ordered steps of a strip or of a lane."""

    steps: list[Step] = Field(default_factory=list, max_length=MAX_STEPS)
    #: Levers over what lies in a strip's path, and over the strip's own settings.
    levers: list[Lever] = Field(default_factory=list, max_length=MAX_LEVERS)
    #: Versions of a strip's whole path.
    slots: "Slots[Path] | None" = None

    @model_serializer(mode="wrap")
    def without_slots(self, dump: SerializerFunctionWrapHandler):  # type: ignore[no-untyped-def]
        return without_empty(without_none(dump(self), "slots"), "levers")

    def walk(self) -> Iterator[Step]:
        """Every step, those in lanes after the split they are in."""
        for step in self.steps:
            yield step
            for lane in step.lanes:
                yield from lane.path.walk()

    def lanes(self) -> Iterator[Lane]:
        """Every lane, however deep."""
        for step in self.walk():
            yield from step.lanes

    def ids(self) -> Iterator[str]:
        """The names of all steps and lanes."""
        yield from (step.id for step in self.walk())
        yield from (lane.id for lane in self.lanes())

    def depth(self) -> int:
        """How many splits lie within each other at most."""
        return max((1 + max(lane.path.depth() for lane in step.lanes) for step in self.steps if step.lanes), default=0)

    @model_validator(mode="after")
    def sound_path(self) -> "Path":
        ids = list(self.ids())
        if len(ids) > MAX_PARTS:
            raise ValueError(f"a path has at most {MAX_PARTS} steps and lanes in all")
        if len(set(ids)) != len(ids):
            raise ValueError("two steps or lanes have the same id")
        if self.depth() > MAX_DEPTH:
            raise ValueError(f"splits lie within each other at most {MAX_DEPTH} deep")
        if self.kept_parts() > MAX_SLOTS * MAX_PARTS:
            raise ValueError(f"the slots of a path hold at most {MAX_SLOTS * MAX_PARTS} steps and lanes in all; clear some")
        return self

    def kept_parts(self) -> int:
        """How many steps and lanes lie in slots."""
        versions: list[Path] = [] if self.slots is None else list(self.slots.kept.values())
        for step in self.walk():
            versions += [] if step.slots is None else [Path.model_construct(steps=[kept]) for kept in step.slots.kept.values()]
            for lane in step.lanes:
                versions += [] if lane.slots is None else [kept.path for kept in lane.slots.kept.values()]
        return sum(sum(1 for _ in version.ids()) + version.kept_parts() for version in versions)


Lane.model_rebuild()
Step.model_rebuild()
Slots[Lane].model_rebuild()
Slots[Step].model_rebuild()
Slots[Path].model_rebuild()
Path.model_rebuild()


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


class Strip(Automated):
    """A track, a bus or the main.

    Pan of a mono track: equal power, -3.01 dB at the centre. Of a stereo strip: balance by the same law, scaled so
    that the centre leaves both sides as they are and neither is ever raised.
    """

    id: Id = Field(default_factory=new_id)
    name: Name = described(..., "text", "Name", "", "Strip", "What the strip is called.")
    kind: Literal["track", "bus", "main"]
    media_id: int | None = Field(default=None, ge=0, le=1 << 53)
    start_s: float = rule(
        0.0, "Start", "s", 0.0, 86400.0, "Strip", "Where the file begins in the session.", moves="structure", ticks=()
    )
    trim_db: float = rule(0.0, "Trim", "dB", -60.0, 24.0, "Strip", "Level before the path.", ticks=(-24, -12, 0, 12))
    path: Path = Field(default_factory=Path)
    level_db: float = rule(
        0.0, "Level", "dB", -90.0, 12.0, "Strip", "Level after the path; -90 dB is off.", ticks=(-48, -24, -12, 0), off_at=-90.0
    )
    pan: float = rule(
        0.0, "Pan", "", -1.0, 1.0, "Strip", "Mono: equal power, -3 dB at the centre. Stereo: balance, nothing is ever raised.",
        ticks=(-1, 0, 1),
    )  # fmt: skip
    mute: bool = choice(False, "Mute", "Strip", "Silent.")
    solo: bool = choice(False, "Solo", "Strip", "Tracks that are not soloed are silent while you listen; never in a file.")
    envelopes_off: bool = choice(False, "Envelopes off", "Strip", "Nothing on this strip moves over time.")
    output: Id | None = MAIN_ID
    sends: list[Send] = Field(default_factory=list, max_length=MAX_SENDS)

    def targets(self) -> Iterator[str]:
        """The strips this one feeds: its output, what it sends to, and the buses that lanes of its path go to."""
        if self.output is not None:
            yield self.output
        yield from (send.target for send in self.sends)
        for lane in self.path.lanes():
            if lane.output is not None:
                yield lane.output


class Session(Part):
    """One piece of work."""

    name: Name = described(..., "text", "Name", "", "Session", "What the session is called.")
    rate_hz: Rate = 48000
    tempo_bpm: float = rule(
        120.0, "Tempo", "bpm", 20.0, 300.0, "Session", "Quarter notes a minute.", ticks=(60, 120, 180, 240), moves="at once"
    )
    low_latency: bool = choice(
        False, "Low latency", "Session", "Every step without lookahead and oversampling, for playing along; never in a file.",
        moves="latency",
    )  # fmt: skip
    beats_in_bar: int = rule(4, "Beats in a bar", "", 1, 16, "Session", "Quarter notes that make a bar.", moves="at once")
    bar_one_s: float = rule(
        0.0, "Bar 1 at", "s", 0.0, 600.0, "Session", "Where bar 1 begins; bars and beats are counted from there.", moves="at once"
    )
    keep_contrast_lu: float = rule(
        0.0, "Keep contrast", "LU", 0.0, 30.0, "Session",
        "How much louder the loudest section of the main is to be than the quietest; a hint says when it is less. 0 is no wish.",
        ticks=(0, 6, 12, 18, 24), moves="at once", off_at=0.0,
    )  # fmt: skip
    envelopes_off: bool = choice(False, "Envelopes off", "Session", "Nothing moves over time.")
    delivery: Delivery = Field(default_factory=Delivery)
    sections: list[Section] = Field(default_factory=list, max_length=MAX_SECTIONS)
    levers: list[Lever] = Field(default_factory=list, max_length=MAX_LEVERS)
    strips: list[Strip] = Field(
        default_factory=lambda: [Strip(id=MAIN_ID, name="Main", kind="main", output=None)], max_length=MAX_STRIPS
    )

    def strip(self, strip_id: str) -> Strip:
        """Raises NotFound with the name of what is missing."""
        for strip in self.strips:
            if strip.id == strip_id:
                return strip
        raise NotFound(f"there is no strip {strip_id!r} in this session; it may have been removed")

    def step(self, step_id: str) -> "Place":
        """Where a step stands. Raises NotFound."""
        for strip in self.strips:
            for lane in (None, *strip.path.lanes()):
                path = strip.path if lane is None else lane.path
                for index, step in enumerate(path.steps):
                    if step.id == step_id:
                        return Place(strip, lane, path, index)
        raise NotFound(f"there is no step {step_id!r} in this session; it may have been removed")

    def lane(self, lane_id: str) -> tuple[Strip, Step, Lane]:
        """A lane with its split and strip. Raises NotFound."""
        for strip in self.strips:
            for step in strip.path.walk():
                for lane in step.lanes:
                    if lane.id == lane_id:
                        return strip, step, lane
        raise NotFound(f"there is no lane {lane_id!r} in this session; it may have been removed")

    def path(self, strip_id: str, lane_id: str | None) -> Path:
        """The path of a lane, or of the strip itself. Raises NotFound."""
        return self.strip(strip_id).path if lane_id is None else self.lane(lane_id)[2].path

    def feeding(self, strip_id: str) -> Iterator[Strip]:
        """The strips whose output is this one, in order."""
        return (strip for strip in self.strips if strip.output == strip_id)

    def send(self, send_id: str) -> tuple[Strip, Send]:
        """A send with its strip. Raises NotFound."""
        for strip in self.strips:
            for send in strip.sends:
                if send.id == send_id:
                    return strip, send
        raise NotFound(f"there is no send {send_id!r} in this session; it may have been removed")

    def all_levers(self) -> Iterator[tuple[Strip | None, Lever]]:
        """Every lever, with the strip it is on; None for the session's own."""
        yield from ((None, lever) for lever in self.levers)
        for strip in self.strips:
            yield from ((strip, lever) for lever in strip.path.levers)

    def lever(self, lever_id: str) -> tuple[Strip | None, Lever]:
        """A lever with its strip. Raises NotFound."""
        for strip, lever in self.all_levers():
            if lever.id == lever_id:
                return strip, lever
        raise NotFound(f"there is no lever {lever_id!r} in this session; it may have been removed")

    def keyed_steps(self) -> Iterator[tuple[Strip, Step, Key]]:
        """Every step with an outside key, and the strip it is on."""
        for strip in self.strips:
            for step in strip.path.walk():
                if step.key is not None:
                    yield strip, step, step.key


@dataclass(frozen=True)
class Place:
    """Where a step stands: on a strip, in a lane of it or (None) on its own path, at an index."""

    strip: Strip
    lane: Lane | None
    path: Path
    index: int

    @property
    def step(self) -> Step:
        return self.path.steps[self.index]

    @property
    def lane_id(self) -> str | None:
        return None if self.lane is None else self.lane.id
