"""Slots: up to four versions of a step, a lane or a strip's path, stored and switched as edits.

    store into 2     kept[2] = a copy of what sounds; on = 2
    switch to 1      kept[on] = a copy of what sounds; what sounds = kept[1]; on = 1

So a version keeps what is changed while it is on, and what was stored before a change stays as it was if the change is stored
into another slot.
"""

from collections.abc import Iterator
from typing import Any, Literal

from pydantic import BaseModel, model_validator

from saltanvil.session.document.base import Id
from saltanvil.session.document.path import Lane, Path, Slots, Step
from saltanvil.session.document.session import Session, Strip

#: What can have slots.
SlotOwner = Literal["step", "lane", "strip"]
#: Of a lane, its place in the routing and its name are not of a version.
LANE_OWN = ("id", "name", "output", "slots")
STEP_OWN = ("id", "slots")


class PartVersion(BaseModel):
    """A step, a lane or a path with its slots, as it was."""

    of: SlotOwner
    id: Id
    step: Step | None = None
    lane: Lane | None = None
    path: Path | None = None

    @model_validator(mode="after")
    def of_one(self) -> "PartVersion":
        parts = {"step": self.step, "lane": self.lane, "strip": self.path}
        if parts[self.of] is None or any(part is not None for of, part in parts.items() if of != self.of):
            raise ValueError(f"the version of a {self.of} holds that and nothing else")
        if any(part is not None and part.id != self.id for part in (self.step, self.lane)):
            raise ValueError(f"this is a version of another {self.of}")
        return self

    @property
    def content(self) -> Step | Lane | Path:
        """The version without slots of its own."""
        part = self.step or self.lane or self.path
        assert part is not None
        return part.model_copy(update={"slots": None}, deep=True)


def owner_of(session: Session, of: SlotOwner, name: str) -> Step | Lane | Strip:
    """What has the slots. Raises NotFound."""
    if of == "step":
        return session.step(name).step
    return session.lane(name)[2] if of == "lane" else session.strip(name)


def version_of(owner: Step | Lane | Strip) -> Step | Lane | Path:
    """A full copy of what sounds, without slots of its own."""
    part = owner.path if isinstance(owner, Strip) else owner
    return part.model_copy(update={"slots": None}, deep=True)


def slots_of(owner: Step | Lane | Strip) -> Slots[Any] | None:
    return owner.path.slots if isinstance(owner, Strip) else owner.slots


def strip_of(session: Session, of: SlotOwner, name: str) -> str:
    """The strip that the scope is on. Raises NotFound."""
    if of == "strip":
        return session.strip(name).id
    return session.step(name).strip.id if of == "step" else session.lane(name)[0].id


def slotted(session: Session) -> Iterator[tuple[SlotOwner, str, Slots[Any]]]:
    """Everything that has slots: of what, its name, and the slots."""
    for strip in session.strips:
        if strip.path.slots is not None:
            yield "strip", strip.id, strip.path.slots
        for step in strip.path.walk():
            if step.slots is not None:
                yield "step", step.id, step.slots
        for lane in strip.path.lanes():
            if lane.slots is not None:
                yield "lane", lane.id, lane.slots


def whole(session: Session, of: SlotOwner, name: str) -> PartVersion:
    owner = owner_of(session, of, name).model_copy(deep=True)
    if isinstance(owner, Step):
        return PartVersion(of=of, id=name, step=owner)
    if isinstance(owner, Lane):
        return PartVersion(of=of, id=name, lane=owner)
    return PartVersion(of=of, id=name, path=owner.path)


def with_slots_on(path: Path, slot: int) -> Path:
    """A path with that slot of everything that has it: of the path itself, or of each step and lane."""
    if path.slots is not None and slot in path.slots.kept:
        return with_slots_on(path.slots.kept[slot], slot)
    steps = []
    for step in path.steps:
        if step.slots is not None and slot in step.slots.kept:
            step = step.slots.kept[slot].model_copy(update={"id": step.id})
        lanes = []
        for lane in step.lanes:
            if lane.slots is not None and slot in lane.slots.kept:
                own = {name: getattr(lane, name) for name in LANE_OWN}
                lane = lane.slots.kept[slot].model_copy(update=own)
            lanes.append(lane.model_copy(update={"path": with_slots_on(lane.path, slot), "slots": None}))
        steps.append(step.model_copy(update={"lanes": lanes, "slots": None}))
    return Path(steps=steps, levers=path.levers)


def without_slots(path: Path) -> Path:
    """A copy of a path as it sounds, without other versions."""
    steps = []
    for step in path.steps:
        lanes = [lane.model_copy(update={"path": without_slots(lane.path), "slots": None}) for lane in step.lanes]
        steps.append(step.model_copy(update={"lanes": lanes, "slots": None}))
    return Path(steps=steps, levers=path.levers)


def slots_in(path: Path) -> set[int]:
    """The numbers of all slots of a path and of what lies in it."""
    all_slots: list[Slots[Any] | None] = [
        path.slots,
        *(step.slots for step in path.walk()),
        *(lane.slots for lane in path.lanes()),
    ]
    return {number for slots in all_slots if slots is not None for number in slots.kept}
