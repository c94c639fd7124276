"""What an edit is; several as one; and what goes with what an edit takes away."""

from collections.abc import Iterator
from typing import Literal

from pydantic import BaseModel, ConfigDict

from saltanvil.errors import UserError
from saltanvil.session.automation import automated_parts
from saltanvil.session.document.path import WHOLE_SONG
from saltanvil.session.document.session import Session, StepLink
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


class Batch(Edit):
    """Several edits as one."""

    op: Literal["batch"] = "batch"
    edits: list["AnyEdit"]  # type: ignore[name-defined]  # noqa: F821 -- see `saltanvil.session.apply`

    def change(self, session: Session) -> None:
        for edit in self.edits:
            edit.change(session)
            drop_dangling_references(session)


def drop_dangling_references(session: Session) -> None:
    """Drop the keys whose source is not there any more, links of steps that are not, the settings of levers that are gone and the
    values of sections that are, and measure over the whole song what was measured over such a section."""
    sections = {section.id for section in session.sections}
    sources = KeySources.of(session)
    for _, step, key in list(session.keyed_steps()):
        if key not in sources:
            step.key = None
    for strip in session.strips:
        for step in strip.path.walk():
            if step.match_over.section_id is not None and step.match_over.section_id not in sections:
                step.match_over = WHOLE_SONG
    session.links = linked_still(session)
    for owner, lever in session.all_levers():
        gone = lost_targets(session, owner, lever)
        if gone:
            lever.targets = [target for target in lever.targets if target not in gone]
    for _, _, part in automated_parts(session):
        for name, envelope in part.envelopes.items():
            if not envelope.sections.keys() <= sections:
                values = {section: value for section, value in envelope.sections.items() if section in sections}
                rest = {other: kept for other, kept in part.envelopes.items() if other != name}
                part.envelopes = {**rest, name: envelope.model_copy(update={"sections": values})} if values else rest


def linked_still(session: Session) -> list[StepLink]:
    """The links of steps, without steps that are gone; one in a slot is there still."""
    if not session.links:
        return session.links
    steps = set(step_ids(session))
    left = [link.model_copy(update={"step_ids": [name for name in link.step_ids if name in steps]}) for link in session.links]
    return [link for link in left if len(link.step_ids) > 1]


def step_ids(session: Session) -> Iterator[str]:
    """The names of all steps, those in slots too."""
    paths = [strip.path for strip in session.strips]
    while paths:
        path = paths.pop()
        paths += [] if path.slots is None else path.slots.kept.values()
        yield from (step.id for step in path.walk())
        paths += [kept.path for lane in path.lanes() if lane.slots is not None for kept in lane.slots.kept.values()]
