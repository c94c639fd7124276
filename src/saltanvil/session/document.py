"""The session as a Pydantic model. A path file is the same `Path` the strips hold."""

import secrets
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated, Any, Literal

from pydantic import (
    BaseModel,
    ConfigDict,
    Field,
    SerializeAsAny,
    SerializerFunctionWrapHandler,
    model_serializer,
    model_validator,
)

from saltanvil.processors import Settings, processor_named
from saltanvil.processors.split import SplitSettings

Rate = Literal[44100, 48000, 88200, 96000]
Name = Annotated[str, Field(min_length=1, max_length=120)]
Id = Annotated[str, Field(min_length=1, max_length=40, pattern=r"^[A-Za-z0-9_-]+$")]

MAX_STEPS = 64
MAX_LANES = 8
#: Steps and lanes of one path, and splits within splits.
MAX_PARTS, MAX_DEPTH = 400, 8
MAX_STRIPS = 200
MAX_SECTIONS = 200
MAIN_ID = "main"


def new_id() -> str:
    """A name that no other object has."""
    return secrets.token_hex(6)


class Part(BaseModel):
    """Base of the document's parts: no unknown names, no NaN, nothing left unchecked on assignment."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False, validate_assignment=True)


class Match(Part):
    """What was measured of a blend's two sides, so that the steady law holds the loudness (see `studies.blend`).

    matched_db: gain that brings the treated side to the loudness of the untreated one. gains_db: gain of the sum at
    equally spaced positions of the blend, from untreated to treated. refused: why no match is used, if none is.
    """

    matched_db: float = Field(default=0.0, ge=-120.0, le=120.0)
    gains_db: list[float] = Field(default_factory=list, max_length=201)
    refused: str | None = Field(default=None, max_length=400)


class Lane(Part):
    """One branch of a split. Bypass lets what enters it past its steps; solo is a matter of listening.

    output: a bus that gets the lane instead of the split's sum. linked: a setting moved in one linked lane moves by
    as much in the others.
    """

    id: Id = Field(default_factory=new_id)
    name: Name
    path: "Path" = Field(default_factory=lambda: Path())
    level_db: float = Field(default=0.0, ge=-90.0, le=24.0)
    invert: bool = False
    mute: bool = False
    solo: bool = False
    bypass: bool = False
    linked: bool = False
    output: Id | None = None


class Step(Part):
    """One item of a path: a processor with its settings, or a split (kind `split`) with its lanes."""

    id: Id = Field(default_factory=new_id)
    kind: str
    bypass: bool = False
    settings: SerializeAsAny[Settings]
    lanes: list[Lane] = Field(default_factory=list, max_length=MAX_LANES)
    match: Match | None = None

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

    @model_serializer(mode="wrap")
    def without_lanes(self, dump: SerializerFunctionWrapHandler) -> dict[str, Any]:
        """Only a split tells of lanes."""
        told: dict[str, Any] = dump(self)
        if self.kind != "split":
            told.pop("lanes", None)
            told.pop("match", None)
        return told

    @model_validator(mode="after")
    def lanes_by_kind(self) -> "Step":
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
        return self


Lane.model_rebuild()
Step.model_rebuild()


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

    def targets(self) -> Iterator[str]:
        """The strips this one feeds: its output, and the buses that lanes of its path go to."""
        if self.output is not None:
            yield self.output
        for lane in self.path.lanes():
            if lane.output is not None:
                yield lane.output


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

    def step(self, step_id: str) -> "Place":
        """Where a step stands. Raises LookupError."""
        for strip in self.strips:
            for lane in (None, *strip.path.lanes()):
                path = strip.path if lane is None else lane.path
                for index, step in enumerate(path.steps):
                    if step.id == step_id:
                        return Place(strip, lane, path, index)
        raise LookupError(f"there is no step {step_id!r} in this session; it may have been removed in another tab")

    def lane(self, lane_id: str) -> tuple[Strip, Step, Lane]:
        """A lane with its split and strip. Raises LookupError."""
        for strip in self.strips:
            for step in strip.path.walk():
                for lane in step.lanes:
                    if lane.id == lane_id:
                        return strip, step, lane
        raise LookupError(f"there is no lane {lane_id!r} in this session; it may have been removed in another tab")

    def path(self, strip_id: str, lane_id: str | None) -> Path:
        """The path of a lane, or of the strip itself. Raises LookupError."""
        return self.strip(strip_id).path if lane_id is None else self.lane(lane_id)[2].path

    def feeding(self, strip_id: str) -> Iterator[Strip]:
        """The strips whose output is this one, in order."""
        return (strip for strip in self.strips if strip.output == strip_id)

    @model_validator(mode="after")
    def sound(self) -> "Session":
        """One main, ids unique, every output an existing bus or the main, no loop."""
        by_id = {strip.id: strip for strip in self.strips}
        if len(by_id) != len(self.strips):
            raise ValueError("two strips have the same id")
        part_ids = [part_id for strip in self.strips for part_id in strip.path.ids()]
        if len(set(part_ids)) != len(part_ids):
            raise ValueError("two steps or lanes have the same id")
        if sum(strip.kind == "main" for strip in self.strips) != 1 or MAIN_ID not in by_id or by_id[MAIN_ID].kind != "main":
            raise ValueError("a session has exactly one main")
        for strip in self.strips:
            if strip.kind != "main" and (strip.output is None or strip.output not in by_id):
                raise ValueError(f"{strip.name!r} feeds a strip that does not exist; choose a bus or the main")
            for target in strip.targets():
                if target not in by_id:
                    raise ValueError(f"a lane of {strip.name!r} feeds a strip that does not exist; choose a bus or the main")
                if by_id[target].kind == "track":
                    raise ValueError(
                        f"{strip.name!r} cannot feed {by_id[target].name!r}: a track takes no input; choose a bus or the main"
                    )
        loop = self.loop()
        if loop:
            raise ValueError(f"this would close a loop: {' > '.join(by_id[strip_id].name for strip_id in loop)}")
        return self

    def loop(self) -> list[str]:
        """The strips on a loop of outputs and lanes that feed buses, the first again at the end; empty if there is none."""
        targets = {strip.id: list(strip.targets()) for strip in self.strips}
        done: set[str] = set()

        def visit(at: str, trail: list[str]) -> list[str]:
            if at in trail:
                return [*trail[trail.index(at) :], at]
            if at in done:
                return []
            for target in targets[at]:
                found = visit(target, [*trail, at])
                if found:
                    return found
            done.add(at)
            return []

        for strip in self.strips:
            found = visit(strip.id, [])
            if found:
                return found
        return []


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
