"""Edits of a session, its strips and steps."""

from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, JsonValue

from saltanvil.errors import UserError
from saltanvil.session.address import Address, Moved, descriptor, put, strip_at, value
from saltanvil.session.automation import automated_parts
from saltanvil.session.delivery import Delivery
from saltanvil.session.document.base import MAIN_ID, Id, Rate
from saltanvil.session.document.path import WHOLE_SONG, Key, Path, Step, Stretch
from saltanvil.session.document.session import Place, Send, Session, Strip
from saltanvil.session.levers import lost_targets
from saltanvil.session.validate import KeySources

#: Beyond any place in a list.
MAX_INDEX = 1 << 20
#: Values moved by one edit.
MAX_VALUES = 200


class EditRefused(UserError, ValueError):
    """The edit cannot be made; the message says why, naming the object."""


class Edit(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)

    @property
    def targets(self) -> frozenset[object] | None:
        """What it moves; edits of one gesture are one edit only if they move the same. None: it is never part of one."""
        return None

    def moved_strips(self, session: Session) -> frozenset[str] | None:
        """The strips on which it moves values, if that is all it does: what there is, and where sound goes, stays then. None
        otherwise. Raises NotFound."""
        return None

    def change(self, session: Session) -> None:
        """Change the session in place. Raises EditRefused, NotFound, ValueError."""
        raise NotImplementedError


class SetRate(Edit):
    """The session's sample rate, as long as it has no sound."""

    op: Literal["set_rate"] = "set_rate"
    rate_hz: Rate

    def change(self, session: Session) -> None:
        if any(strip.media_id is not None for strip in session.strips):
            raise EditRefused("the rate of a session with tracks cannot be changed; make a new one and import the files there")
        session.rate_hz = self.rate_hz


class AddStrip(Edit):
    """A new strip at a place in the list. `feeders` and `lanes` are strips and lanes that are to feed it from now on."""

    op: Literal["add_strip"] = "add_strip"
    strip: Strip
    index: int | None = Field(default=None, ge=0, le=MAX_INDEX)
    feeders: list[Id] = Field(default_factory=list)
    lanes: list[Id] = Field(default_factory=list)

    def change(self, session: Session) -> None:
        if any(strip.id == self.strip.id for strip in session.strips):
            raise EditRefused(f"there is a strip {self.strip.id!r} already")
        if self.strip.kind == "main":
            raise EditRefused("a session has one main only")
        index = len(session.strips) if self.index is None else self.index
        feeders = [session.strip(feeder) for feeder in self.feeders]
        strips = [*session.strips]
        strips.insert(index, self.strip)
        session.strips = strips
        for feeder in feeders:
            feeder.output = self.strip.id
        for lane_id in self.lanes:
            session.lane(lane_id)[2].output = self.strip.id


class RemoveStrip(Edit):
    """Take a strip out; what fed it feeds its output instead, lanes that fed it are summed in their split again, and
    sends to it and keys taken from it go."""

    op: Literal["remove_strip"] = "remove_strip"
    strip_id: Id

    def change(self, session: Session) -> None:
        strip = session.strip(self.strip_id)
        if strip.kind == "main":
            raise EditRefused("the main cannot be removed")
        session.strips = [other for other in session.strips if other.id != strip.id]
        for other in session.strips:
            if other.output == strip.id:
                other.output = strip.output
            for lane in other.path.lanes():
                if lane.output == strip.id:
                    lane.output = None
            if any(send.target == strip.id for send in other.sends):
                other.sends = [send for send in other.sends if send.target != strip.id]


class MoveStrip(Edit):
    """Another place in the list, and perhaps another output."""

    op: Literal["move_strip"] = "move_strip"
    strip_id: Id
    index: int = Field(ge=0, le=MAX_INDEX)
    output: Id | None = None

    def change(self, session: Session) -> None:
        strip = session.strip(self.strip_id)
        if strip.id == MAIN_ID and self.output is not None:
            raise EditRefused("the main feeds no other strip")
        strips = [other for other in session.strips if other.id != strip.id]
        strips.insert(self.index, strip)
        if self.output is not None:
            session.strip(self.output)
            strip.output = self.output
        session.strips = strips


class SetOutput(Edit):
    """What a strip feeds, or where a lane goes.

    Of a strip, null is nothing, so that only its sends are heard and keys taken from it work; of a lane, null is the sum of
    its split.
    """

    op: Literal["set_output"] = "set_output"
    strip_id: Id | None = None
    lane_id: Id | None = None
    output: Id | None

    def change(self, session: Session) -> None:
        if (self.strip_id is None) == (self.lane_id is None):
            raise EditRefused("an output is that of a strip or of a lane; name one of them")
        source = session.strip(self.strip_id) if self.strip_id is not None else session.lane(self.lane_id or "")[2]
        source.output = self.output


class AddSend(Edit):
    """A strip's sound to a bus besides its output."""

    op: Literal["add_send"] = "add_send"
    strip_id: Id
    send: Send
    index: int | None = Field(default=None, ge=0, le=MAX_INDEX)

    def change(self, session: Session) -> None:
        strip = session.strip(self.strip_id)
        if any(other.target == self.send.target for other in strip.sends):
            raise EditRefused(f"{strip.name!r} sends to {session.strip(self.send.target).name!r} already; change that send")
        sends = [*strip.sends]
        sends.insert(len(sends) if self.index is None else self.index, self.send)
        strip.sends = sends


class RemoveSend(Edit):
    op: Literal["remove_send"] = "remove_send"
    send_id: Id

    def change(self, session: Session) -> None:
        strip, send = session.send(self.send_id)
        strip.sends = [other for other in strip.sends if other.id != send.id]


class SetKey(Edit):
    """What a step's detector listens to; null is its own signal."""

    op: Literal["set_key"] = "set_key"
    step_id: Id
    key: Key | None

    def change(self, session: Session) -> None:
        step = session.step(self.step_id).step
        if self.key is not None and self.key not in KeySources.of(session):
            raise EditRefused("the key comes from what does not exist; it may have been removed")
        step.key = self.key


class AddStep(Edit):
    """A new step at a place in a path: the strip's own, or that of a lane."""

    op: Literal["add_step"] = "add_step"
    strip_id: Id
    lane_id: Id | None = None
    step: Step
    index: int | None = Field(default=None, ge=0, le=MAX_INDEX)

    def change(self, session: Session) -> None:
        path = session.path(self.strip_id, self.lane_id)
        steps = [*path.steps]
        steps.insert(len(steps) if self.index is None else self.index, self.step)
        path.steps = steps


class RemoveStep(Edit):
    op: Literal["remove_step"] = "remove_step"
    step_id: Id

    def change(self, session: Session) -> None:
        place = session.step(self.step_id)
        place.path.steps = [other for other in place.path.steps if other.id != self.step_id]


class MoveStep(Edit):
    """Another place, in the same path or another; the index counts without the moved step."""

    op: Literal["move_step"] = "move_step"
    step_id: Id
    strip_id: Id
    lane_id: Id | None = None
    index: int = Field(ge=0, le=MAX_INDEX)

    def change(self, session: Session) -> None:
        place = session.step(self.step_id)
        step = place.step
        if self.lane_id is not None and any(lane.id == self.lane_id for lane in Path(steps=[step]).lanes()):
            raise EditRefused("a split cannot be put into a lane of its own")
        place.path.steps = [other for other in place.path.steps if other.id != step.id]
        target = session.path(self.strip_id, self.lane_id)
        steps = [*target.steps]
        steps.insert(self.index, step)
        target.steps = steps


class Set(Edit):
    """New values for any addresses of the session.

    A setting moved in a linked lane moves by as much in the same step of the other linked lanes, unless `alone`. All of them
    stop where the first of them comes to its limit, so that their distances stay.
    """

    op: Literal["set"] = "set"
    values: list[Moved] = Field(min_length=1, max_length=MAX_VALUES)
    alone: bool = False

    @property
    def targets(self) -> frozenset[object]:
        return frozenset(moved.address for moved in self.values)

    def moved_strips(self, session: Session) -> frozenset[str]:
        strips = (strip_at(session, moved.address) for moved in self.values)
        return frozenset(strip.id for strip in strips if strip is not None)

    def change(self, session: Session) -> None:
        moves: list[Moved] = []
        for moved in self.values:
            moves.extend([moved] if self.alone else linked_moves(session, moved))
        put(session, moves)


class SetMatchOver(Edit):
    """The stretch over which a step's loudness is measured: the whole song, a section or a range."""

    op: Literal["set_match_over"] = "set_match_over"
    step_id: Id
    over: Stretch

    def change(self, session: Session) -> None:
        step = session.step(self.step_id).step
        section_id = self.over.section_id
        if section_id is not None and all(section.id != section_id for section in session.sections):
            raise EditRefused("there is no such section; it may have been removed")
        step.match_over = self.over


class SetDelivery(Edit):
    """Parts of how a delivery is set up, by their names (see `delivery.Delivery`); the others stay."""

    op: Literal["set_delivery"] = "set_delivery"
    values: dict[str, JsonValue] = Field(min_length=1, max_length=len(Delivery.model_fields))

    @property
    def targets(self) -> frozenset[object]:
        return frozenset(self.values)

    def change(self, session: Session) -> None:
        held = session.delivery.model_dump(mode="json")
        session.delivery = Delivery.model_validate({**held, **self.values})


def linked_moves(session: Session, moved: Moved) -> list[Moved]:
    """A move with those that follow it in linked lanes, as far as all of them can go."""
    if moved.of != "step" or moved.name == "low_latency":
        return [moved]
    place = session.step(moved.id or "")
    followers = linked_steps(session, place)
    if not followers:
        return [moved]
    described = descriptor(session, moved.address)
    others = [Address.of_step(step, moved.name) for step in followers]
    if (
        isinstance(moved.value, bool)
        or not isinstance(moved.value, int | float)
        or described.minimum is None
        or described.maximum is None
    ):
        return [moved, *(Moved(**address.model_dump(), value=moved.value) for address in others)]
    low, high = described.minimum, described.maximum
    if not low <= moved.value <= high:
        return [moved]  # refused with the limits when it is put
    own = [float(value(session, address)) for address in (moved.address, *others)]  # type: ignore[arg-type]
    if described.scale == "log":
        ratio = min(max(moved.value / own[0], *(low / number for number in own)), *(high / number for number in own))
        new = [number if ratio == 1.0 else number * ratio for number in own]
    else:
        change = min(max(moved.value - own[0], *(low - number for number in own)), *(high - number for number in own))
        new = [number + change for number in own]
    return [
        Moved(**address.model_dump(), value=number if number == was else min(max(float(f"{number:.6g}"), low), high))
        for address, number, was in zip((moved.address, *others), new, own, strict=True)
    ]


def linked_steps(session: Session, place: Place) -> list[Step]:
    """The steps that stand for this one in the other linked lanes: of the same kind, and as many of that kind before."""
    if place.lane is None or not place.lane.linked:
        return []
    step = place.step
    count = sum(other.kind == step.kind for other in place.path.steps[: place.index])
    result = []
    for lane in session.lane(place.lane.id)[1].lanes:
        alike = [other for other in lane.path.steps if other.kind == step.kind]
        if lane.linked and lane.id != place.lane.id and len(alike) > count:
            result.append(alike[count])
    return result


class Batch(Edit):
    """Several edits as one."""

    op: Literal["batch"] = "batch"
    edits: list["AnyEdit"]  # type: ignore[name-defined]  # noqa: F821 -- see `saltanvil.session.apply`

    def change(self, session: Session) -> None:
        for edit in self.edits:
            edit.change(session)
            drop_dangling_references(session)


def drop_dangling_references(session: Session) -> None:
    """Drop the keys whose source is not there any more, the settings of levers that are gone and the values of sections that are,
    and measure over the whole song what was measured over such a section."""
    sections = {section.id for section in session.sections}
    sources = KeySources.of(session)
    for _, step, key in list(session.keyed_steps()):
        if key not in sources:
            step.key = None
    for strip in session.strips:
        for step in strip.path.walk():
            if step.match_over.section_id is not None and step.match_over.section_id not in sections:
                step.match_over = WHOLE_SONG
    for owner, lever in session.all_levers():
        gone = lost_targets(session, owner, lever)
        if gone:
            lever.targets = [target for target in lever.targets if target not in gone]
    for _, _, part in automated_parts(session):
        for name, envelope in part.envelopes.items():
            if not envelope.sections.keys() <= sections:
                values = {section: held for section, held in envelope.sections.items() if section in sections}
                rest = {other: held for other, held in part.envelopes.items() if other != name}
                part.envelopes = {**rest, name: envelope.model_copy(update={"sections": values})} if values else rest
