"""Edits of the steps of a path, their keys, and the stretch they are measured over."""

from typing import Literal

from pydantic import Field

from saltanvil.session.document.base import Id
from saltanvil.session.document.path import Key, Path, Step, Stretch
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import MAX_INDEX, Edit, EditRefused
from saltanvil.session.validate import KeySources


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


class SetPath(Edit):
    """All steps of a path at once."""

    op: Literal["set_path"] = "set_path"
    strip_id: Id
    lane_id: Id | None = None
    steps: list[Step]

    def change(self, session: Session) -> None:
        path = session.path(self.strip_id, self.lane_id)
        path.steps = self.steps
