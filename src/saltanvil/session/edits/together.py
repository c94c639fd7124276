"""What is done on one strip, done on others as well: an edit of steps, each in its place on every strip."""

from collections.abc import Iterator
from itertools import chain
from typing import Annotated, Literal

from pydantic import Field

from saltanvil.session.counterparts import counterpart, counterpart_lane, name_on
from saltanvil.session.document.base import MAX_STRIPS, Id
from saltanvil.session.document.path import Step
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.edits.base import Edit, EditRefused, drop_dangling_references
from saltanvil.session.edits.copies import Seed, names_from, with_new_ids
from saltanvil.session.edits.levers import AddLever
from saltanvil.session.edits.steps import AddStep, MoveStep, RemoveStep

OfSteps = Annotated[AddStep | RemoveStep | MoveStep | AddLever, Field(discriminator="op")]


class OnStrips(Edit):
    """Edits of the steps of one strip, made on others too.

    A step is added behind what stands there for the step before it, or at the end; what stands for a removed one is removed, what
    stands for a moved one goes behind what stands for its new neighbour. A strip without a counterpart is left alone. Steps that
    are added are named after the one they stand for, and what lies in them after the seed.
    """

    op: Literal["on_strips"] = "on_strips"
    strip_ids: list[Id] = Field(min_length=1, max_length=MAX_STRIPS)
    edits: list[OfSteps] = Field(min_length=1, max_length=256)
    seed: Seed

    def change(self, session: Session) -> None:
        names = names_from(self.seed)
        parts = {name for strip in session.strips for name in strip.path.ids()}
        #: What each strip's copies are called, by what was copied.
        copied: dict[str, dict[str, str]] = {strip_id: {} for strip_id in self.strip_ids}
        for edit in self.edits:
            lead = lead_of(session, edit)
            others = []
            for number, strip_id in enumerate(other for other in copied if other != lead.id):
                name = name_on(number, edit.step.id) if isinstance(edit, AddStep) else None
                called = names if name is None or name in parts else chain([name], names)
                translated = on_strip(session, lead, session.strip(strip_id), edit, copied[strip_id], called)
                if translated is not None:
                    others.append(translated)
            for one in (edit, *others):
                one.change(session)
            drop_dangling_references(session)


def lead_of(session: Session, edit: OfSteps) -> Strip:
    """The strip whose steps an edit is about."""
    if isinstance(edit, AddLever) and edit.strip_id is None:
        raise EditRefused("a lever of the whole session is on no strip")
    if isinstance(edit, AddStep | AddLever):
        return session.strip(edit.strip_id or "")
    strip = session.step(edit.step_id).strip
    if isinstance(edit, MoveStep) and edit.strip_id != strip.id:
        raise EditRefused("a step that goes to another strip goes alone")
    return strip


def on_strip(
    session: Session, lead: Strip, strip: Strip, edit: OfSteps, copied: dict[str, str], names: Iterator[str]
) -> OfSteps | None:
    """The edit for another strip; None if that has nothing to do it with."""
    if isinstance(edit, RemoveStep):
        twin = counterpart(lead.path, strip.path, edit.step_id)
        return None if twin is None else RemoveStep(step_id=twin.id)
    if isinstance(edit, AddLever):
        targets = [target.model_copy(update={"id": copied[target.id]}) for target in edit.lever.targets if target.id in copied]
        copied[edit.lever.id] = next(names)
        lever = edit.lever.model_copy(update={"id": copied[edit.lever.id], "targets": targets})
        return AddLever(strip_id=strip.id, lever=lever)
    lane = None if edit.lane_id is None else counterpart_lane(lead.path, strip.path, edit.lane_id)
    if edit.lane_id is not None and lane is None:
        return None
    lane_id = None if lane is None else lane.id
    steps, others = session.path(lead.id, edit.lane_id).steps, session.path(strip.id, lane_id).steps
    if isinstance(edit, AddStep):
        before = steps if edit.index is None else steps[: edit.index]
        index = place_behind(lead, strip, before, others, copied)
        if index is None:
            index = 0 if steps and not before else len(others)
        return AddStep(strip_id=strip.id, lane_id=lane_id, step=with_new_ids([edit.step], names, copied)[0], index=index)
    twin = counterpart(lead.path, strip.path, edit.step_id)
    if twin is None:
        return None
    before = [step for step in steps if step.id != edit.step_id][: edit.index]
    left = [step for step in others if step.id != twin.id]
    return MoveStep(
        step_id=twin.id, strip_id=strip.id, lane_id=lane_id, index=place_behind(lead, strip, before, left, copied) or 0
    )  # fmt: skip


def place_behind(lead: Strip, strip: Strip, before: list[Step], others: list[Step], copied: dict[str, str]) -> int | None:
    """Behind what stands, on another strip, for the last of these steps that anything stands for; None if nothing does."""
    places = {step.id: place for place, step in enumerate(others)}
    for step in reversed(before):
        twin = counterpart(lead.path, strip.path, step.id)
        name = copied.get(step.id) or (None if twin is None else twin.id)
        if name in places:
            return places[name] + 1
    return None
