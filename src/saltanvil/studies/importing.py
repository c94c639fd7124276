"""What files to be imported say of themselves, and what can be done with the tracks they become."""

from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal, get_args

from pydantic import BaseModel

from saltanvil.media.markers import FileMarkers, Marker
from saltanvil.session.apply import AnyEdit
from saltanvil.session.document import Rate, Section, Session, Strip, new_id
from saltanvil.session.edits import AddStrip, Batch, Set, SetOutput
from saltanvil.session.importing import grouped
from saltanvil.session.sections import AddSection
from saltanvil.session.settings import Moved

RATES: tuple[int, ...] = get_args(Rate)
MIDI = (".mid", ".midi", ".smf")
#: Two files begin at the same time if they are no further apart.
SAME_TIME_S = 0.001
#: The last marker's section is at least so long.
LAST_SECTION_S = 1.0


@dataclass
class Sent:
    """A file of an import. problem: why it cannot be taken."""

    name: str
    path: Path | None = None
    markers: FileMarkers = field(default_factory=FileMarkers)
    rate: int = 0
    channels: int = 0
    frames: int = 0
    problem: str | None = None

    @property
    def midi(self) -> bool:
        return self.name.lower().endswith(MIDI)

    @property
    def stem(self) -> str:
        return Path(self.name).stem or self.name


class Proposal(BaseModel):
    """Something that can be done with what was imported, in one edit."""

    name: Literal["buses", "times", "sections", "tempo"]
    text: str
    edit: AnyEdit


def rate_of(files: list[Sent]) -> int:
    """The rate that most files have, or the nearest above it that a session can have."""
    most = Counter(sent.rate for sent in files).most_common(1)[0][0]
    return next((rate for rate in RATES if rate >= most), RATES[-1])


def proposals(session: Session, strips: list[Strip], made_of: list[Sent], files: list[Sent]) -> list[Proposal]:
    """What can be done with new tracks: by their names, by the times in them, by their markers."""
    found: list[Proposal] = []
    groups = grouped([strip.name for strip in strips])
    if groups:
        edits: list[AnyEdit] = []
        at = 1 + next(place for place, strip in enumerate(session.strips) if strip.kind == "main")
        for group, places in groups.items():
            bus = next((strip for strip in session.strips if strip.kind == "bus" and strip.name == group), None)
            bus_id = bus.id if bus else new_id()
            if bus is None:
                edits.append(AddStrip(strip=Strip(id=bus_id, name=group, kind="bus"), index=at))
            edits += [SetOutput(strip_id=strips[place].id, output=bus_id) for place in places]
        told = "; ".join(f"{group}: {', '.join(strips[place].name for place in places)}" for group, places in groups.items())
        found.append(Proposal(name="buses", text=told, edit=Batch(edits=edits)))
    references = [sent.markers.time_reference_s for sent in made_of]
    known = [time for time in references if time is not None]
    if known and max(known) - min(known) > SAME_TIME_S:
        first = min(known)
        starts = {strip.id: time - first for strip, time in zip(strips, references, strict=True) if time is not None}
        found.append(
            Proposal(
                name="times",
                text=f"{len(known)} files say when they begin, up to {max(known) - first:.3f} s apart",
                edit=Set(values=[Moved(of="strip", id=name, name="start_s", value=round(at, 9)) for name, at in starts.items()]),
            )
        )
    sections = sections_of(files, made_of)
    if sections:
        found.append(
            Proposal(
                name="sections",
                text=", ".join(section.name for section in sections),
                edit=Batch(edits=[AddSection(section=section) for section in sections]),
            )
        )
    for sent in files:
        bpm, beats = sent.markers.tempo_bpm, sent.markers.beats_in_bar
        values = [("tempo_bpm", bpm), ("beats_in_bar", beats)]
        moved = [Moved(of="session", name=name, value=value) for name, value in values if value is not None]
        if moved:
            told = ", ".join(
                part for part in (f"{bpm:g} bpm" if bpm else "", f"{beats} quarter notes in a bar" if beats else "") if part
            )
            found.append(Proposal(name="tempo", text=f"{sent.name}: {told}", edit=Set(values=moved)))
            break
    return found


def sections_of(files: list[Sent], made_of: list[Sent]) -> list[Section]:
    """Sections from the markers of the first file that has any (MIDI before sound): each ends where the next begins."""
    marked = [one for one in files if one.markers.markers and one.problem is None]
    sent = min(marked, key=lambda one: not one.midi, default=None)
    if sent is None:
        return []
    marks: list[Marker] = sorted(sent.markers.markers, key=lambda mark: mark.start_s)
    length = max((one.frames / one.rate for one in made_of if one.rate), default=marks[-1].start_s + 10.0)
    ends = [mark.start_s for mark in marks[1:]] + [max(length, marks[-1].start_s + 1.0)]
    return [
        Section(name=mark.name, start_s=mark.start_s, end_s=mark.end_s or end)
        for mark, end in zip(marks, ends, strict=True)
        if (mark.end_s or end) > mark.start_s
    ]
