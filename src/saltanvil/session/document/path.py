"""A path: steps, the lanes of a split, keys, versions in slots. A path file is the same `Path` the strips hold."""

from collections.abc import Iterator
from typing import Annotated, Any, Generic, Literal, TypeVar

from pydantic import (
    Field,
    SerializeAsAny,
    SerializerFunctionWrapHandler,
    WithJsonSchema,
    model_serializer,
    model_validator,
)

from saltanvil.processors import Settings, processor_named
from saltanvil.processors.descriptor import choice, described, rule
from saltanvil.processors.split import SplitSettings
from saltanvil.session.document.automation import MAX_LEVERS, Automated, Lever
from saltanvil.session.document.base import (
    MAX_DEPTH,
    MAX_LANES,
    MAX_PARTS,
    MAX_STEPS,
    Id,
    Name,
    Part,
    new_id,
    without_empty,
    without_none,
)


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
        lanes = self.settings.lane_count()
        if not self.lanes:
            raise ValueError("a split has at least one lane")
        if lanes is not None and len(self.lanes) != lanes:
            raise ValueError(f"this split by {self.settings.by} has {lanes} lanes, not {len(self.lanes)}")
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
