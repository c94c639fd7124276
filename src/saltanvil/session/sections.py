"""Sections: named stretches of time, their order, and their CSV file."""

import csv
import io

from saltanvil.media.table import guarded, unguarded
from saltanvil.session.document.base import NotFound
from saltanvil.session.document.session import Section, Session
from saltanvil.session.edits.base import EditRefused

COLUMNS = ("name", "start_s", "end_s")


def named(session: Session, section_id: str) -> Section:
    """Raises NotFound."""
    for section in session.sections:
        if section.id == section_id:
            return section
    raise NotFound("there is no such section; it may have been removed")


def in_order(sections: list[Section]) -> list[Section]:
    return sorted(sections, key=lambda section: (section.start_s, section.end_s))


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
