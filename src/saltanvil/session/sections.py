"""Sections: named stretches of time, their edits, and their CSV file."""

import csv
import io
from typing import Literal

from pydantic import Field

from saltanvil.media.table import guarded, unguarded
from saltanvil.session.automation import automated_parts
from saltanvil.session.document.base import Id, Name, NotFound
from saltanvil.session.document.session import Section, Session
from saltanvil.session.edits import Edit, EditRefused

COLUMNS = ("name", "start_s", "end_s")


def named(session: Session, section_id: str) -> Section:
    """Raises NotFound."""
    for section in session.sections:
        if section.id == section_id:
            return section
    raise NotFound("there is no such section; it may have been removed")


def in_order(sections: list[Section]) -> list[Section]:
    return sorted(sections, key=lambda section: (section.start_s, section.end_s))


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
        given = {name: value for name in COLUMNS if (value := getattr(self, name)) is not None}
        changed = Section.model_validate({**section.model_dump(), **given})
        session.sections = in_order([changed if other is section else other for other in session.sections])


# ---- CSV -------------------------------------------------------------------------------------------------------------------


def written(sections: list[Section]) -> str:
    """CSV text with a line a section: name, start_s, end_s; seconds to the microsecond."""
    text = io.StringIO(newline="")
    rows = csv.writer(text, lineterminator="\n", quoting=csv.QUOTE_NONNUMERIC)
    rows.writerow(COLUMNS)
    rows.writerows((guarded(section.name), round(section.start_s, 6), round(section.end_s, 6)) for section in sections)
    return text.getvalue()


def read(text: str) -> list[Section]:
    """Sections from such a text, in any order of the columns. Raises EditRefused, naming the line."""
    try:
        return parsed(csv.DictReader(io.StringIO(text.removeprefix("\ufeff"), newline="")))
    except csv.Error as error:
        raise EditRefused(f"this is no table of sections: {error}") from error


def parsed(rows: "csv.DictReader[str]") -> list[Section]:
    missing = [column for column in COLUMNS if column not in (rows.fieldnames or [])]
    if missing:
        raise EditRefused(f"the first line must name the columns {', '.join(COLUMNS)}; {', '.join(missing)} is missing")
    result = []
    for row in rows:
        try:
            values = {name: (row[name] or "").strip() for name in COLUMNS}
            result.append(Section(name=unguarded(values["name"]), start_s=float(values["start_s"]), end_s=float(values["end_s"])))
        except ValueError as error:
            raise EditRefused(f"line {rows.line_num}: a section has a name, and an end after its start, in seconds") from error
    return in_order(result)
