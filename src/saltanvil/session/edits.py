"""Edits of a session, its strips and steps. Applying one yields its inverse, which is an edit too."""

from collections.abc import Iterable
from typing import Any, Literal

from annotated_types import Ge, Le
from pydantic import BaseModel, ConfigDict, Field
from pydantic.fields import FieldInfo

from saltanvil.session.document import (
    MAIN_ID,
    Id,
    Key,
    Name,
    Path,
    Place,
    Section,
    Send,
    Session,
    Step,
    Strip,
    key_sources,
)

#: A number, a switch, a word, the dividers of bands, or the points of a curve.
SettingValue = float | bool | str | list[float] | list[tuple[float, float]]


class EditRefused(ValueError):
    """The edit cannot be made; the message says why, naming the object."""


class Edit(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)

    def change(self, session: Session) -> "Edit":
        """Change the session in place and return the edit that changes it back."""
        raise NotImplementedError


class SetSession(Edit):
    """Name, tempo, beats in a bar, or whether it plays with low latency."""

    op: Literal["set_session"] = "set_session"
    name: Name | None = None
    tempo_bpm: float | None = None
    beats_in_bar: int | None = None
    low_latency: bool | None = None

    def change(self, session: Session) -> Edit:
        given = self.model_dump(exclude_none=True, exclude={"op"})
        old = {name: getattr(session, name) for name in given}
        for name, value in given.items():
            setattr(session, name, value)
        return SetSession(**old)


class SetSections(Edit):
    """All sections at once."""

    op: Literal["set_sections"] = "set_sections"
    sections: list[Section]

    def change(self, session: Session) -> Edit:
        old = session.sections
        session.sections = sorted(self.sections, key=lambda section: section.start_s)
        return SetSections(sections=old)


class AddStrip(Edit):
    """A new strip at a place in the list. `feeders` and `lanes` are strips and lanes that are to feed it from now on."""

    op: Literal["add_strip"] = "add_strip"
    strip: Strip
    index: int | None = Field(default=None, ge=0)
    feeders: list[Id] = Field(default_factory=list)
    lanes: list[Id] = Field(default_factory=list)

    def change(self, session: Session) -> Edit:
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
        return RemoveStrip(strip_id=self.strip.id)


class RemoveStrip(Edit):
    """Take a strip out; what fed it feeds its output instead, lanes that fed it are summed in their split again, and
    sends to it and keys taken from it go."""

    op: Literal["remove_strip"] = "remove_strip"
    strip_id: Id

    def change(self, session: Session) -> Edit:
        strip = session.strip(self.strip_id)
        if strip.kind == "main":
            raise EditRefused("the main cannot be removed")
        index = session.strips.index(strip)
        feeders = list(session.feeding(strip.id))
        for feeder in feeders:
            feeder.output = strip.output
        lanes = [lane for other in session.strips for lane in other.path.lanes() if lane.output == strip.id]
        for lane in lanes:
            lane.output = None
        sent = [send.id for other in session.strips for send in other.sends if send.target == strip.id]
        undo = [RemoveSend(send_id=send_id).change(session) for send_id in sent]
        parts = {strip.id, *strip.path.ids()}
        for other, step, key in list(session.keyed_steps()):
            if other.id != strip.id and parts & {key.strip_id, key.step_id, key.lane_id}:
                undo.append(SetKey(step_id=step.id, key=None).change(session))
        session.strips = [other for other in session.strips if other.id != strip.id]
        made = AddStrip(strip=strip, index=index, feeders=[feeder.id for feeder in feeders], lanes=[lane.id for lane in lanes])
        return Batch(edits=[made, *undo[::-1]]) if undo else made


class SetStrip(Edit):
    """Name, trim, level, pan, mute or solo of a strip."""

    op: Literal["set_strip"] = "set_strip"
    strip_id: Id
    name: Name | None = None
    trim_db: float | None = None
    level_db: float | None = None
    pan: float | None = None
    mute: bool | None = None
    solo: bool | None = None

    def change(self, session: Session) -> Edit:
        strip = session.strip(self.strip_id)
        given = self.model_dump(exclude_none=True, exclude={"op", "strip_id"})
        old = {name: getattr(strip, name) for name in given}
        for name, value in given.items():
            setattr(strip, name, value)
        return SetStrip(strip_id=self.strip_id, **old)


class MoveStrip(Edit):
    """Another place in the list, and perhaps another output."""

    op: Literal["move_strip"] = "move_strip"
    strip_id: Id
    index: int = Field(ge=0)
    output: Id | None = None

    def change(self, session: Session) -> Edit:
        strip = session.strip(self.strip_id)
        if strip.id == MAIN_ID and self.output is not None:
            raise EditRefused("the main feeds no other strip")
        inverse = MoveStrip(strip_id=strip.id, index=session.strips.index(strip), output=strip.output)
        strips = [other for other in session.strips if other.id != strip.id]
        strips.insert(self.index, strip)
        if self.output is not None:
            session.strip(self.output)
            strip.output = self.output
        session.strips = strips
        return inverse


class SetOutput(Edit):
    """What a strip feeds; null is nothing, so that only its sends are heard and keys taken from it work."""

    op: Literal["set_output"] = "set_output"
    strip_id: Id
    output: Id | None

    def change(self, session: Session) -> Edit:
        strip = session.strip(self.strip_id)
        old = SetOutput(strip_id=strip.id, output=strip.output)
        strip.output = self.output
        return old


class AddSend(Edit):
    """A strip's sound to a bus besides its output."""

    op: Literal["add_send"] = "add_send"
    strip_id: Id
    send: Send
    index: int | None = Field(default=None, ge=0)

    def change(self, session: Session) -> Edit:
        strip = session.strip(self.strip_id)
        if any(other.target == self.send.target for other in strip.sends):
            raise EditRefused(f"{strip.name!r} sends to {session.strip(self.send.target).name!r} already; change that send")
        sends = [*strip.sends]
        sends.insert(len(sends) if self.index is None else self.index, self.send)
        strip.sends = sends
        return RemoveSend(send_id=self.send.id)


class RemoveSend(Edit):
    op: Literal["remove_send"] = "remove_send"
    send_id: Id

    def change(self, session: Session) -> Edit:
        strip, send = session.send(self.send_id)
        index = strip.sends.index(send)
        strip.sends = [other for other in strip.sends if other.id != send.id]
        return AddSend(strip_id=strip.id, send=send, index=index)


class SetSend(Edit):
    """Level, place (before or after the strip's level) or mute of a send."""

    op: Literal["set_send"] = "set_send"
    send_id: Id
    level_db: float | None = None
    pre: bool | None = None
    mute: bool | None = None

    def change(self, session: Session) -> Edit:
        _, send = session.send(self.send_id)
        given = self.model_dump(exclude_none=True, exclude={"op", "send_id"})
        old = {name: getattr(send, name) for name in given}
        for name, value in given.items():
            setattr(send, name, value)
        return SetSend(send_id=send.id, **old)


class SetKey(Edit):
    """What a step's detector listens to; null is its own signal."""

    op: Literal["set_key"] = "set_key"
    step_id: Id
    key: Key | None

    def change(self, session: Session) -> Edit:
        step = session.step(self.step_id).step
        old = SetKey(step_id=step.id, key=step.key)
        step.key = self.key
        return old


class AddStep(Edit):
    """A new step at a place in a path: the strip's own, or that of a lane."""

    op: Literal["add_step"] = "add_step"
    strip_id: Id
    lane_id: Id | None = None
    step: Step
    index: int | None = Field(default=None, ge=0)

    def change(self, session: Session) -> Edit:
        path = session.path(self.strip_id, self.lane_id)
        steps = [*path.steps]
        steps.insert(len(steps) if self.index is None else self.index, self.step)
        path.steps = steps
        return RemoveStep(step_id=self.step.id)


class RemoveStep(Edit):
    op: Literal["remove_step"] = "remove_step"
    step_id: Id

    def change(self, session: Session) -> Edit:
        place = session.step(self.step_id)
        step = place.step
        place.path.steps = [other for other in place.path.steps if other.id != step.id]
        return AddStep(strip_id=place.strip.id, lane_id=place.lane_id, step=step, index=place.index)


class MoveStep(Edit):
    """Another place, in the same path or another; the index counts without the moved step."""

    op: Literal["move_step"] = "move_step"
    step_id: Id
    strip_id: Id
    lane_id: Id | None = None
    index: int = Field(ge=0)

    def change(self, session: Session) -> Edit:
        place = session.step(self.step_id)
        step = place.step
        if self.lane_id is not None and any(lane.id == self.lane_id for lane in Path(steps=[step]).lanes()):
            raise EditRefused("a split cannot be put into a lane of its own")
        place.path.steps = [other for other in place.path.steps if other.id != step.id]
        target = session.path(self.strip_id, self.lane_id)
        steps = [*target.steps]
        steps.insert(self.index, step)
        target.steps = steps
        return MoveStep(step_id=step.id, strip_id=place.strip.id, lane_id=place.lane_id, index=place.index)


class SetStep(Edit):
    """Some settings of a step, its bypass, or whether it runs with low latency.

    A setting moved in a linked lane moves by as much in the same step of the other linked lanes, unless `alone`.
    """

    op: Literal["set_step"] = "set_step"
    step_id: Id
    settings: dict[str, SettingValue] = Field(default_factory=dict)
    bypass: bool | None = None
    low_latency: bool | None = None
    alone: bool = False

    def change(self, session: Session) -> Edit:
        place = session.step(self.step_id)
        step = place.step
        old: dict[str, Any] = step.settings.model_dump()
        unknown = sorted(set(self.settings) - set(old))
        if unknown:
            raise EditRefused(f"a {step.kind} has no setting {unknown[0]!r}; it has {', '.join(sorted(old))}")
        inverse: Edit = SetStep(
            step_id=step.id,
            settings={name: old[name] for name in self.settings},
            bypass=None if self.bypass is None else step.bypass,
            low_latency=None if self.low_latency is None else step.low_latency,
            alone=True,
        )
        followers = [] if self.alone else linked_steps(session, place)
        if self.settings:
            step.settings = type(step.settings).model_validate({**old, **self.settings})
        if self.bypass is not None:
            step.bypass = self.bypass
        if self.low_latency is not None:
            step.low_latency = self.low_latency
        if followers:
            new = step.settings.model_dump()
            moves = [
                SetStep(step_id=other.id, settings=moved_along(other, old, new, self.settings), bypass=self.bypass, alone=True)
                for other in followers
            ]
            inverse = Batch(edits=[*(move.change(session) for move in moves), inverse])
        return inverse


def linked_steps(session: Session, place: Place) -> list[Step]:
    """The steps that stand for this one in the other linked lanes: of the same kind, and as many of that kind before."""
    if place.lane is None or not place.lane.linked:
        return []
    step = place.step
    count = sum(other.kind == step.kind for other in place.path.steps[: place.index])
    found = []
    for lane in session.lane(place.lane.id)[1].lanes:
        alike = [other for other in lane.path.steps if other.kind == step.kind]
        if lane.linked and lane.id != place.lane.id and len(alike) > count:
            found.append(alike[count])
    return found


def moved_along(step: Step, old: dict[str, Any], new: dict[str, Any], names: Iterable[str]) -> dict[str, SettingValue]:
    """The settings of a linked step when those of another moved: by the same difference, or the same ratio on a
    logarithmic scale, within its range; words and switches are taken over."""
    own = step.settings.model_dump()
    moved: dict[str, SettingValue] = {}
    for name in names:
        field = type(step.settings).model_fields[name]
        extra = field.json_schema_extra if isinstance(field.json_schema_extra, dict) else {}
        if isinstance(new[name], bool) or not isinstance(new[name], int | float):
            moved[name] = new[name]
            continue
        low, high = (limit_of(field, kind) for kind in (Ge, Le))
        wanted = own[name] * new[name] / old[name] if extra.get("scale") == "log" else own[name] + new[name] - old[name]
        moved[name] = min(max(float(f"{wanted:.6g}"), low), high)
    return moved


def limit_of(field: FieldInfo, kind: type[Ge] | type[Le]) -> float:
    return next(float(getattr(part, kind.__name__.lower())) for part in field.metadata if isinstance(part, kind))


class Batch(Edit):
    """Several edits as one."""

    op: Literal["batch"] = "batch"
    edits: list["AnyEdit"] = Field(max_length=500)  # type: ignore[name-defined]  # noqa: F821 -- see `saltanvil.session.apply`

    def change(self, session: Session) -> Edit:
        inverses = [let_go(session, edit.change(session)) for edit in self.edits]
        return Batch(edits=inverses[::-1])


def let_go(session: Session, inverse: Edit) -> Edit:
    """Let go of the keys whose source is not there any more; returns the inverse that also gives them back."""
    strips = {strip.id for strip in session.strips}
    parts = {part_id for strip in session.strips for part_id in strip.path.ids()}
    lost = [
        SetKey(step_id=step.id, key=None)
        for _, step, key in session.keyed_steps()
        if any(name not in known for name, known in key_sources(key, strips, parts))
    ]
    return Batch(edits=[inverse, *(key.change(session) for key in lost)]) if lost else inverse


def reason(error: ValueError) -> str:
    """One plain sentence for a validation error."""
    from pydantic import ValidationError

    if not isinstance(error, ValidationError):
        return str(error)
    first = error.errors(include_url=False)[0]
    where = ".".join(str(part) for part in first["loc"])
    message = first["msg"].removeprefix("Value error, ")
    return f"{where}: {message}" if where else message
