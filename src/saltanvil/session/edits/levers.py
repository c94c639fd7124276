"""Edits of levers: made, named, given their settings by hand or learnt from what was moved."""

from typing import Literal

from pydantic import Field

from saltanvil.session.address import Moved, descriptor, put, value
from saltanvil.session.automation import scale_of
from saltanvil.session.document.automation import MAX_TARGETS, Lever, LeverTarget
from saltanvil.session.document.base import Id, Name
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import MAX_INDEX, MAX_VALUES, Edit, EditRefused
from saltanvil.session.levers import check_reach, target_address


class AddLever(Edit):
    """A new lever on a strip, or (null) on the session."""

    op: Literal["add_lever"] = "add_lever"
    strip_id: Id | None = None
    lever: Lever
    index: int | None = Field(default=None, ge=0, le=MAX_INDEX)

    def change(self, session: Session) -> None:
        if any(lever.id == self.lever.id for _, lever in session.all_levers()):
            raise EditRefused(f"there is a lever {self.lever.id!r} already")
        if self.strip_id is not None:
            check_reach(session.strip(self.strip_id), self.lever)
        owner = session if self.strip_id is None else session.strip(self.strip_id).path
        levers = [*owner.levers]
        levers.insert(len(levers) if self.index is None else self.index, self.lever)
        owner.levers = levers


class RemoveLever(Edit):
    """Take a lever away; its settings are where they are without it."""

    op: Literal["remove_lever"] = "remove_lever"
    lever_id: Id

    def change(self, session: Session) -> None:
        strip, lever = session.lever(self.lever_id)
        owner = session if strip is None else strip.path
        owner.levers = [other for other in owner.levers if other.id != lever.id]


class SetLever(Edit):
    """Another name or other settings; what is not given stays. Its position is a value like any other."""

    op: Literal["set_lever"] = "set_lever"
    lever_id: Id
    name: Name | None = None
    moves: list[LeverTarget] | None = Field(default=None, max_length=MAX_TARGETS)

    @property
    def targets(self) -> frozenset[object]:
        return frozenset({self.lever_id, ("name", self.name is None), ("moves", self.moves is None)})

    def change(self, session: Session) -> None:
        strip, lever = session.lever(self.lever_id)
        if self.name is not None:
            lever.name = self.name
        if self.moves is not None:
            lever.targets = self.moves
            check_reach(strip, lever)


class LearnLever(Edit):
    """What was moved is the lever's other end: its settings are those that stand elsewhere than they did at its first end.

    first: the values at 0 %. They are the document's again, and the lever stands at 100 %, so that nothing changes to the ear.
    """

    op: Literal["learn_lever"] = "learn_lever"
    lever_id: Id
    first: list[Moved] = Field(min_length=1, max_length=MAX_VALUES)

    def change(self, session: Session) -> None:
        strip, lever = session.lever(self.lever_id)
        targets = []
        for moved in self.first:
            setting, now, first = descriptor(session, moved.address), value(session, moved.address), moved.value
            if (
                setting.type != "number"
                or isinstance(first, str | bool | list)
                or isinstance(now, str | bool | list)
                or now == first
            ):
                continue
            by = scale_of(session, moved.address).distance(float(first), float(now))
            targets.append(LeverTarget(**moved.address.model_dump(), by=float(f"{by:.9g}")))
        if not targets:
            raise EditRefused("nothing was moved: move settings to where they are to be at 100 %, and then learn that end")
        if len(targets) > MAX_TARGETS:
            raise EditRefused(f"a lever moves at most {MAX_TARGETS} settings, and {len(targets)} were moved; put some back")
        learnt = {str(target_address(target)) for target in targets}
        put(session, [moved for moved in self.first if str(moved.address) in learnt])
        lever.targets, lever.value = targets, 1.0
        check_reach(strip, lever)


class UnlearnLever(Edit):
    """A lever's settings, and values; what undid learning in histories of earlier versions."""

    op: Literal["unlearn_lever"] = "unlearn_lever"
    lever_id: Id
    moves: list[LeverTarget] = Field(max_length=MAX_TARGETS)
    values: list[Moved] = Field(max_length=MAX_VALUES)

    def change(self, session: Session) -> None:
        _, lever = session.lever(self.lever_id)
        lever.targets = self.moves
        put(session, self.values)
