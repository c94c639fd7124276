"""Edits of slots: store, switch and clear a version, or put one in its place."""

from typing import Any, Literal

from saltanvil.session.document.base import Id
from saltanvil.session.document.path import MAX_SLOTS, Lane, Path, SlotNumber, Slots, Step
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.edits.base import Edit, EditRefused
from saltanvil.session.edits.copies import Seed, names_from, replace_step, with_new_ids
from saltanvil.session.levers import renamed_targets
from saltanvil.session.slots import LANE_OWN, PartVersion, SlotOwner, owner_of, slots_of, version_of
from saltanvil.session.validate import KeySources


class SetVersion(Edit):
    """The whole of a step, a lane or a path, with its slots."""

    op: Literal["set_version"] = "set_version"
    version: PartVersion

    def change(self, session: Session) -> None:
        version = self.version
        if version.step is not None:
            replace_step(session.step(version.id), version.step)
        elif version.lane is not None:
            replace_lane(session.lane(version.id)[1], version.lane)
        else:
            assert version.path is not None
            session.strip(version.id).path = version.path


def replace_lane(split: Step, lane: Lane) -> None:
    split.lanes = [lane if other.id == lane.id else other for other in split.lanes]


class SlotEdit(Edit):
    """An edit of one slot of a step, a lane or a strip's path."""

    of: SlotOwner
    id: Id
    slot: SlotNumber

    def slots(self, session: Session) -> Slots[Any]:
        """A copy of the owner's slots, to be changed."""
        own = slots_of(owner_of(session, self.of, self.id))
        return Slots[Any](on=own.on, kept=dict(own.kept)) if own else Slots[Any]()

    def put(self, session: Session, slots: Slots[Any], content: Step | Lane | Path | None = None) -> None:
        """Give the owner its slots and, if there is any, other content."""
        kept = slots if slots.kept else None
        owner = owner_of(session, self.of, self.id)
        if isinstance(owner, Strip):
            assert content is None or isinstance(content, Path)
            owner.path = (content or owner.path).model_copy(update={"slots": kept})
        elif content is None:
            owner.slots = kept
        elif isinstance(content, Step):
            replace_step(session.step(self.id), content.model_copy(update={"id": self.id, "slots": kept}))
        else:
            assert isinstance(content, Lane) and isinstance(owner, Lane)
            own = {name: getattr(owner, name) for name in LANE_OWN if name != "slots"}
            replace_lane(session.lane(self.id)[1], content.model_copy(update={**own, "slots": kept}))


class StoreSlot(SlotEdit):
    """Store what sounds into a slot, or another version of it, such as one of the history; what sounds stays."""

    op: Literal["store_slot"] = "store_slot"
    version: PartVersion | None = None

    def change(self, session: Session) -> None:
        slots = self.slots(session)
        owner = owner_of(session, self.of, self.id)
        if self.version is None:
            slots.kept[self.slot] = version_of(owner)
            slots.on = self.slot
            self.put(session, slots)
            return
        if (self.version.of, self.version.id) != (self.of, self.id):
            raise EditRefused("this is a version of something else")
        if slots.on == self.slot:
            raise EditRefused(f"slot {self.slot} is on; choose another one, or switch first")
        if slots.on is None:  # what sounds is to be found again
            free = next((number for number in range(1, MAX_SLOTS + 1) if number != self.slot and number not in slots.kept), None)
            if free is None:
                raise EditRefused("every other slot is taken; store what you hear into one of them first (Shift and its digit)")
            slots.kept[free], slots.on = version_of(owner), free
        slots.kept[self.slot] = self.version.content
        self.put(session, slots)


class SwitchSlot(SlotEdit):
    """Hear another slot's version; what was changed since the last switch is kept in the slot that was on."""

    op: Literal["switch_slot"] = "switch_slot"
    seed: Seed

    def change(self, session: Session) -> None:
        slots = self.slots(session)
        if self.slot not in slots.kept:
            stored = ", ".join(str(number) for number in sorted(slots.kept))
            raise EditRefused(
                f"slot {self.slot} is empty; press Shift+{self.slot} to store what you hear"
                + (f" (stored: {stored})" if stored else "")
            )
        owner = owner_of(session, self.of, self.id)
        if isinstance(owner, Strip) and owner.printed is not None:
            raise EditRefused(f"{owner.name!r} is printed: another path would treat it twice; unprint it first")
        if slots.on is not None:
            slots.kept[slots.on] = version_of(owner)
        content = fitting(session, owner, slots.kept[self.slot].model_copy(deep=True), self.seed)
        slots.on = self.slot
        self.put(session, slots, content)


class ClearSlot(SlotEdit):
    """Empty a slot; what sounds stays."""

    op: Literal["clear_slot"] = "clear_slot"

    def change(self, session: Session) -> None:
        slots = self.slots(session)
        if slots.kept.pop(self.slot, None) is None:
            raise EditRefused(f"slot {self.slot} is empty")
        slots.on = None if slots.on == self.slot else slots.on
        self.put(session, slots)


def content_path(content: Step | Lane | Path | Strip) -> Path:
    """What lies in a version, as a path."""
    if isinstance(content, Path):
        return content
    return Path(steps=[content]) if isinstance(content, Step) else content.path


def fitting(session: Session, owner: Step | Lane | Strip, content: Step | Lane | Path, seed: str) -> Step | Lane | Path:
    """The version as it fits the session now: parts that live elsewhere meanwhile get new names, buses and
    sources of keys that are gone are dropped."""
    own = {*content_path(owner).ids(), *([] if isinstance(owner, Strip) else [owner.id])}
    elsewhere = {name for strip in session.strips for name in (strip.id, *strip.path.ids())} - own
    path = content_path(content)
    if elsewhere & set(path.ids()):
        if isinstance(content, Step):
            inner = [lane.model_copy(update={"path": Path(steps=[])}) for lane in content.lanes]
            names = names_from(seed)
            for lane, old in zip(inner, content.lanes, strict=True):
                lane.path = Path(steps=with_new_ids(old.path.steps, names))
                if lane.id in elsewhere:
                    lane.id = next(names)
            content.lanes = inner
        else:
            new: dict[str, str] = {}
            path.steps = with_new_ids(path.steps, names_from(seed), new)
            path.levers = renamed_targets(path.levers, new, elsewhere | own)
    strips = {strip.id for strip in session.strips}
    path = content_path(content)
    for lane in path.lanes():
        if lane.output is not None and lane.output not in strips:
            lane.output = None
    there = KeySources.of(session)
    sources = KeySources(
        strips,
        (there.steps & elsewhere) | {step.id for step in path.walk()},
        (there.lanes & elsewhere) | {lane.id for lane in path.lanes()},
    )
    for step in path.walk():
        if step.key is not None and step.key not in sources:
            step.key = None
    return content
