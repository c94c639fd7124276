"""Every change of a document is one of these. Applying one yields its inverse, which is an edit too."""

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter

from saltanvil.session.document import MAIN_ID, Id, Name, Section, Session, Step, Strip

#: A number, a switch, a word, or the points of a curve.
SettingValue = float | bool | str | list[tuple[float, float]]


class EditRefused(ValueError):
    """The edit cannot be made; the message says why, naming the object."""


class Edit(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)

    def change(self, session: Session) -> "Edit":
        """Change the session in place and return the edit that changes it back."""
        raise NotImplementedError


class SetSession(Edit):
    """Name, tempo or beats in a bar."""

    op: Literal["set_session"] = "set_session"
    name: Name | None = None
    tempo_bpm: float | None = None
    beats_in_bar: int | None = None

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
    """A new strip at a place in the list. `feeders` are strips that are to feed it from now on."""

    op: Literal["add_strip"] = "add_strip"
    strip: Strip
    index: int | None = Field(default=None, ge=0)
    feeders: list[Id] = Field(default_factory=list)

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
        return RemoveStrip(strip_id=self.strip.id)


class RemoveStrip(Edit):
    """Take a strip out; what fed it feeds its output instead."""

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
        session.strips = [other for other in session.strips if other.id != strip.id]
        return AddStrip(strip=strip, index=index, feeders=[feeder.id for feeder in feeders])


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


class AddStep(Edit):
    """A new step at a place in a strip's path."""

    op: Literal["add_step"] = "add_step"
    strip_id: Id
    step: Step
    index: int | None = Field(default=None, ge=0)

    def change(self, session: Session) -> Edit:
        path = session.strip(self.strip_id).path
        steps = [*path.steps]
        steps.insert(len(steps) if self.index is None else self.index, self.step)
        path.steps = steps
        return RemoveStep(step_id=self.step.id)


class RemoveStep(Edit):
    op: Literal["remove_step"] = "remove_step"
    step_id: Id

    def change(self, session: Session) -> Edit:
        strip, index = session.step(self.step_id)
        step = strip.path.steps[index]
        strip.path.steps = [other for other in strip.path.steps if other.id != step.id]
        return AddStep(strip_id=strip.id, step=step, index=index)


class MoveStep(Edit):
    """Another place, on the same strip or another; the index counts without the moved step."""

    op: Literal["move_step"] = "move_step"
    step_id: Id
    strip_id: Id
    index: int = Field(ge=0)

    def change(self, session: Session) -> Edit:
        source, old = session.step(self.step_id)
        target = session.strip(self.strip_id)
        step = source.path.steps[old]
        source.path.steps = [other for other in source.path.steps if other.id != step.id]
        steps = [*target.path.steps]
        steps.insert(self.index, step)
        target.path.steps = steps
        return MoveStep(step_id=step.id, strip_id=source.id, index=old)


class SetStep(Edit):
    """Some settings of a step, or its bypass."""

    op: Literal["set_step"] = "set_step"
    step_id: Id
    settings: dict[str, SettingValue] = Field(default_factory=dict)
    bypass: bool | None = None

    def change(self, session: Session) -> Edit:
        strip, index = session.step(self.step_id)
        step = strip.path.steps[index]
        old: dict[str, Any] = step.settings.model_dump()
        unknown = sorted(set(self.settings) - set(old))
        if unknown:
            raise EditRefused(f"a {step.kind} has no setting {unknown[0]!r}; it has {', '.join(sorted(old))}")
        inverse = SetStep(
            step_id=step.id,
            settings={name: old[name] for name in self.settings},
            bypass=None if self.bypass is None else step.bypass,
        )
        if self.settings:
            step.settings = type(step.settings).model_validate({**old, **self.settings})
        if self.bypass is not None:
            step.bypass = self.bypass
        return inverse


class Batch(Edit):
    """Several edits as one."""

    op: Literal["batch"] = "batch"
    edits: list["AnyEdit"] = Field(max_length=500)

    def change(self, session: Session) -> Edit:
        inverses = [edit.change(session) for edit in self.edits]
        return Batch(edits=inverses[::-1])


AnyEdit = Annotated[
    SetSession | SetSections | AddStrip | RemoveStrip | SetStrip | MoveStrip | AddStep | RemoveStep | MoveStep | SetStep | Batch,
    Field(discriminator="op"),
]
Batch.model_rebuild()
EDIT: TypeAdapter[AnyEdit] = TypeAdapter(AnyEdit)


def apply(session: Session, edit: Edit) -> tuple[Session, Edit]:
    """A changed copy and the inverse edit; the given session stays as it is.

    Raises EditRefused, naming the object and the reason, if the edit or what it leads to is not valid.
    """
    changed = session.model_copy(deep=True)
    try:
        inverse = edit.model_copy(deep=True).change(changed)
        checked = Session.model_validate(changed.model_dump())
    except LookupError as error:
        raise EditRefused(str(error.args[0])) from error
    except EditRefused:
        raise
    except ValueError as error:
        raise EditRefused(reason(error)) from error
    return checked, inverse


def reason(error: ValueError) -> str:
    """One plain sentence for a validation error."""
    from pydantic import ValidationError

    if not isinstance(error, ValidationError):
        return str(error)
    first = error.errors(include_url=False)[0]
    where = ".".join(str(part) for part in first["loc"])
    message = first["msg"].removeprefix("Value error, ")
    return f"{where}: {message}" if where else message
