"""The session: strips with their sends, sections, and how something in it is found."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from pydantic import Field, SerializerFunctionWrapHandler, model_serializer, model_validator

from saltanvil.processors.descriptor import choice, described, rule
from saltanvil.session.delivery import Delivery
from saltanvil.session.document.automation import MAX_LEVERS, Automated, Envelope, Lever, SettingName
from saltanvil.session.document.base import (
    MAIN_ID,
    MAX_LINKS,
    MAX_SECTIONS,
    MAX_SENDS,
    MAX_STRIPS,
    Id,
    Name,
    NotFound,
    Part,
    Rate,
    new_id,
    without_empty,
    without_none,
)
from saltanvil.session.document.path import Key, Lane, Path, Step


class Send(Automated):
    """A strip's sound to a bus besides its output: before or after the strip's level, at its pan."""

    id: Id = Field(default_factory=new_id)
    target: Id
    level_db: float = rule(
        0.0, "Level", "dB", -90.0, 12.0, "Send", "Level of the send; -90 dB is off.", ticks=(-48, -24, -12, 0), off_at=-90.0
    )
    pre: bool = choice(False, "Pre", "Send", "Taken before or after the strip's level.")
    mute: bool = choice(False, "Mute", "Send", "Silent.")


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


class StepLink(Part):
    """Steps of one kind whose settings move together.

    relative: they move by as much, and all stop where the first of them comes to its limit; otherwise they take the same value.
    settings: which of them; None is all, with bypass.
    """

    id: Id = Field(default_factory=new_id)
    step_ids: list[Id] = Field(max_length=MAX_STRIPS)
    relative: bool = True
    settings: list[SettingName] | None = Field(default=None, max_length=200)


class Printed(Part):
    """What a printed track was before: its recording, its trim, and which of its steps were bypassed.

    channels: with how many it entered its path then, as its level and pan go by them.
    """

    media_id: int = Field(ge=0, le=1 << 53)
    start_s: float = Field(ge=-86400.0, le=86400.0)
    trim_db: float = Field(ge=-60.0, le=24.0)
    trim_envelope: Envelope | None = None
    channels: Literal[1, 2]
    bypass: dict[Id, bool] = Field(default_factory=dict)
    bypass_envelopes: dict[Id, Envelope] = Field(default_factory=dict)


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
        0.0, "Start", "s", -86400.0, 86400.0, "Strip", "Where the file begins in the session; what lies before 0 is not heard.",
        moves="structure", ticks=(),
    )  # fmt: skip
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
    printed: Printed | None = None

    @model_serializer(mode="wrap")
    def without_what_is_not_there(self, dump: SerializerFunctionWrapHandler):  # type: ignore[no-untyped-def]
        return without_empty(without_none(dump(self), "printed"), "envelopes")

    def media_ids(self) -> Iterator[int]:
        """The recording it plays, and the one it played before it was printed."""
        if self.media_id is not None:
            yield self.media_id
        if self.printed is not None:
            yield self.printed.media_id

    def targets(self) -> Iterator[str]:
        """The strips this one feeds: its output, what it sends to, and the buses that lanes of its path go to."""
        if self.output is not None:
            yield self.output
        yield from (send.target for send in self.sends)
        for lane in self.path.lanes():
            if lane.output is not None:
                yield lane.output


def no_longer(what: str) -> NotFound:
    """Ids are of no use to anybody: what the page shows has names, and what is gone has none."""
    return NotFound(f"this {what} is not there any more; it may have been removed (undo brings it back)")


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
    links: list[StepLink] = Field(default_factory=list, max_length=MAX_LINKS)
    strips: list[Strip] = Field(
        default_factory=lambda: [Strip(id=MAIN_ID, name="Main", kind="main", output=None)], max_length=MAX_STRIPS
    )

    @model_serializer(mode="wrap")
    def without_no_links(self, dump: SerializerFunctionWrapHandler):  # type: ignore[no-untyped-def]
        return without_empty(dump(self), "links")

    def link_of(self, step_id: str) -> StepLink | None:
        return next((link for link in self.links if step_id in link.step_ids), None)

    def strip(self, strip_id: str) -> Strip:
        """Raises NotFound."""
        for strip in self.strips:
            if strip.id == strip_id:
                return strip
        raise no_longer("strip")

    def step(self, step_id: str) -> "Place":
        """Where a step stands. Raises NotFound."""
        for strip in self.strips:
            for lane in (None, *strip.path.lanes()):
                path = strip.path if lane is None else lane.path
                for index, step in enumerate(path.steps):
                    if step.id == step_id:
                        return Place(strip, lane, path, index)
        raise no_longer("step")

    def lane(self, lane_id: str) -> tuple[Strip, Step, Lane]:
        """A lane with its split and strip. Raises NotFound."""
        for strip in self.strips:
            for step in strip.path.walk():
                for lane in step.lanes:
                    if lane.id == lane_id:
                        return strip, step, lane
        raise no_longer("lane")

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
        raise no_longer("send")

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
        raise no_longer("lever")

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
