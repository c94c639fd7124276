"""Edits of linked steps: tied, and untied."""

from typing import Literal

from pydantic import Field

from saltanvil.processors import processor_named
from saltanvil.processors.descriptor import descriptors_of
from saltanvil.session.counterparts import counterparts
from saltanvil.session.document.automation import SettingName
from saltanvil.session.document.base import MAX_LINKS, MAX_STRIPS, Id
from saltanvil.session.document.session import Session, StepLink
from saltanvil.session.edits.base import Edit, EditRefused
from saltanvil.session.edits.copies import Seed


class LinkSteps(Edit):
    """Tie steps of one kind, of any strips. A step is in one link at most: it leaves the one it was in.
    strips: with what stands for the first of them there."""

    op: Literal["link_steps"] = "link_steps"
    step_ids: list[Id] = Field(min_length=1, max_length=MAX_STRIPS)
    strips: list[Id] = Field(default_factory=list, max_length=MAX_STRIPS)
    relative: bool = True
    settings: list[SettingName] | None = Field(default=None, max_length=200)
    seed: Seed

    def change(self, session: Session) -> None:
        twins = counterparts(session, self.step_ids[0], self.strips)
        names = list(dict.fromkeys([*self.step_ids, *(step.id for step in twins)]))
        steps = [session.step(name).step for name in names]
        kinds = {step.kind for step in steps}
        if len(kinds) > 1:
            labels = " and ".join(sorted(processor_named(kind).label.lower() for kind in kinds))
            raise EditRefused(f"only steps of one kind can be linked, not {labels}")
        if len(names) < 2:
            raise EditRefused("nothing stands for this step there; a link is of two steps or more")
        known = {*descriptors_of(type(steps[0].settings)), "bypass"}
        unknown = [name for name in self.settings or () if name not in known]
        if unknown:
            raise EditRefused(f"a {steps[0].kind} has no setting {unknown[0]!r}; it has {', '.join(sorted(known))}")
        kept = without_steps(session.links, set(names))
        if len(kept) == MAX_LINKS:
            raise EditRefused(f"a session has at most {MAX_LINKS} links")
        session.links = [*kept, StepLink(id=self.seed, step_ids=names, relative=self.relative, settings=self.settings)]


class UnlinkSteps(Edit):
    """Steps that are in no link any more; what is left of a link stays one while it is of two or more."""

    op: Literal["unlink_steps"] = "unlink_steps"
    step_ids: list[Id] = Field(min_length=1, max_length=MAX_STRIPS)

    def change(self, session: Session) -> None:
        if all(session.link_of(name) is None for name in self.step_ids):
            raise EditRefused("none of these steps is linked")
        session.links = without_steps(session.links, set(self.step_ids))


def without_steps(links: list[StepLink], names: set[str]) -> list[StepLink]:
    """Links without some steps; those that are of one step then are gone."""
    result = []
    for link in links:
        left = [name for name in link.step_ids if name not in names]
        if len(left) > 1:
            result.append(link if len(left) == len(link.step_ids) else link.model_copy(update={"step_ids": left}))
    return result
