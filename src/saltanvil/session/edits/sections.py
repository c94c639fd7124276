"""Edits of sections."""

from typing import Literal

from pydantic import Field

from saltanvil.session.automation import automated_parts
from saltanvil.session.document.base import Id, Name
from saltanvil.session.document.session import Section, Session
from saltanvil.session.edits.base import Edit, EditRefused
from saltanvil.session.sections import COLUMNS, in_order, named


class SetSections(Edit):
    """All sections at once."""

    op: Literal["set_sections"] = "set_sections"
    sections: list[Section]

    def change(self, session: Session) -> None:
        session.sections = in_order(self.sections)


class AddSection(Edit):
    """A new section. like: a section whose values of envelopes it takes over, as where one is split in two."""

    op: Literal["add_section"] = "add_section"
    section: Section
    like: Id | None = None

    def change(self, session: Session) -> None:
        if any(section.id == self.section.id for section in session.sections):
            raise EditRefused(f"there is a section {self.section.id!r} already")
        session.sections = in_order([*session.sections, self.section])
        for _, _, part in automated_parts(session) if self.like is not None else ():
            for name, envelope in part.envelopes.items():
                if self.like in envelope.sections:
                    values = {**envelope.sections, self.section.id: envelope.sections[self.like]}
                    part.envelopes = {**part.envelopes, name: envelope.model_copy(update={"sections": values})}


class RemoveSection(Edit):
    op: Literal["remove_section"] = "remove_section"
    section_id: Id

    def change(self, session: Session) -> None:
        section = named(session, self.section_id)
        session.sections = [other for other in session.sections if other is not section]


class SetSection(Edit):
    """Another name or other edges; what is not given stays."""

    op: Literal["set_section"] = "set_section"
    section_id: Id
    name: Name | None = None
    start_s: float | None = Field(default=None, ge=0.0)
    end_s: float | None = Field(default=None, gt=0.0)

    def change(self, session: Session) -> None:
        section = named(session, self.section_id)
        changes = {name: value for name in COLUMNS if (value := getattr(self, name)) is not None}
        changed = Section.model_validate({**section.model_dump(), **changes})
        session.sections = in_order([changed if other is section else other for other in session.sections])
