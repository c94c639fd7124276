"""What goes out of a session: which strips, how much of them, under what names, in which formats; and what is wished of it."""

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import AfterValidator, Field

from saltanvil.media.dither import Dither
from saltanvil.media.formats import FormatName, Origin, Tags, format_named
from saltanvil.media.names import file_names
from saltanvil.session.document.base import MAX_STRIPS, Id, Part, Rate

#: Formats of one delivery, encoders of one check.
MAX_FORMATS, MAX_ENCODERS = 8, 12
MAX_FILES = 2000
#: What a pattern of names can hold.
FIELDS = {
    "session": "name of the session",
    "strip": "name of the strip",
    "section": "name of the section, where sections are files of their own",
    "format": "name of the format, such as wav24 or mp3-256",
    "date": "today, as 2026-11-26",
    "number": "counts the files: 01, 02 ...",
}
FIELD = re.compile(r"\{([^{}]*)\}")
Extent = Literal["whole", "passage", "sections", "whole and sections"]


def known_fields(pattern: str) -> str:
    for name in FIELD.findall(pattern):
        if name not in FIELDS:
            raise ValueError(f"a name has no field {{{name}}}; there are {', '.join(f'{{{field}}}' for field in FIELDS)}")
    if "{" in FIELD.sub("", pattern) or "}" in FIELD.sub("", pattern):
        raise ValueError("a brace in the pattern belongs to no field; write {strip} or leave it out")
    return pattern


def each_once(names: list[str]) -> list[str]:
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice is not None:
        raise ValueError(f"{twice!r} is named twice; name each once")
    return names


Pattern = Annotated[str, Field(min_length=1, max_length=200), AfterValidator(known_fields)]
DEFAULT_PATTERN = "{session} - {strip}"


class Delivery(Part):
    """A delivery as it is set up.

    extent: the whole song, the passage, each section as a file of its own, or the whole song and each section.
    tail: whether what sounds at the end may decay.
    rate_hz: None is the session's. encoders: what the delivery check tries. true_peak_dbtp, loudness_lufs: what is wished;
    a loudness of 0 is none.
    """

    strip_ids: Annotated[list[Id], AfterValidator(each_once)] = Field(
        default_factory=lambda: ["main"], min_length=1, max_length=MAX_STRIPS
    )
    extent: Extent = "whole"
    tail: bool = True
    pattern: Pattern = DEFAULT_PATTERN
    formats: Annotated[list[FormatName], AfterValidator(each_once)] = Field(
        default_factory=lambda: ["wav24"], min_length=1, max_length=MAX_FORMATS
    )
    rate_hz: Rate | None = None
    dither: Dither = "tpdf"
    tags: Tags = Field(default_factory=Tags)
    origin: Origin = Field(default_factory=Origin)
    encoders: Annotated[list[FormatName], AfterValidator(each_once)] = Field(
        default_factory=lambda: ["mp3-128", "mp3-256", "aac-256", "opus-128", "vorbis-192"], max_length=MAX_ENCODERS
    )
    true_peak_dbtp: float = Field(default=-1.0, ge=-24.0, le=0.0)
    loudness_lufs: float = Field(default=-14.0, ge=-60.0, le=0.0)


@dataclass(frozen=True)
class Span:
    """A part of the session that becomes files: a section, or (with no name) what else was asked for."""

    start: int
    stop: int
    section: str = ""


@dataclass(frozen=True)
class OutgoingFile:
    """A file that a delivery will make."""

    strip_id: str
    span: Span
    format: str
    name: str


def outgoing(
    delivery: Delivery, session_name: str, strips: Sequence[tuple[str, str]], spans: Sequence[Span], date: str
) -> list[OutgoingFile]:
    """The files of a delivery with their names. strips: ids and names; date: of today."""
    pattern = delivery.pattern
    if any(span.section for span in spans) and "{section}" not in pattern:
        pattern += " - {section}"
    parts = [(span, strip, kind) for span in spans for strip in strips for kind in delivery.formats]
    titles = [
        filled(
            pattern,
            {
                "session": session_name, "strip": name, "section": span.section, "format": kind, "date": date,
                "number": str(number + 1).zfill(max(2, len(str(len(parts))))),
            },
        )
        for number, (span, (_, name), kind) in enumerate(parts)
    ]  # fmt: skip
    names = file_names([title.replace("/", "_") for title in titles], [format_named(kind).suffix for _, _, kind in parts])
    return [OutgoingFile(strip_id, span, kind, name) for (span, (strip_id, _), kind), name in zip(parts, names, strict=True)]


def filled(pattern: str, fields: dict[str, str]) -> str:
    """A pattern with its fields; where one is empty, the mark before it goes too."""
    for name, text in fields.items():
        if not text:
            pattern = re.sub(r"[ _-]*\{" + name + r"\}", "", pattern)
    return FIELD.sub(lambda match: fields[match[1]], pattern)
