"""What files to be imported say of themselves, and what can be done with the tracks they become."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal, get_args

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel

from saltanvil.engine.time import MAX_SESSION_S
from saltanvil.media.markers import FileMarkers, Marker
from saltanvil.session.address import Moved
from saltanvil.session.apply import AnyEdit
from saltanvil.session.document.base import MAX_SECTIONS, Rate, new_id
from saltanvil.session.document.session import Section, Session, Strip
from saltanvil.session.edits.base import MAX_VALUES, Batch
from saltanvil.session.edits.recordings import ReplaceMedia
from saltanvil.session.edits.sections import AddSection
from saltanvil.session.edits.strips import AddStrip, RemoveStrip, SetOutput
from saltanvil.session.edits.values import Set
from saltanvil.session.importing import grouped
from saltanvil.studies.replacing import replaceable

RATES: tuple[int, ...] = get_args(Rate)
MIDI = (".mid", ".midi", ".smf")
#: Two files begin at the same time if they are no further apart.
SAME_TIME_S = 0.001
#: Markers that are named where some are left out.
NAMES_SHOWN = 5
#: The last marker's section is at least so long.
LAST_SECTION_S = 1.0
#: How much of a long song the passage is after an import.
LOUDEST_BARS = 8


@dataclass
class Sent:
    """A file of an import. problem: why it cannot be taken."""

    name: str
    path: Path | None = None
    markers: FileMarkers = field(default_factory=FileMarkers)
    rate: int = 0
    channels: int = 0
    frames: int = 0
    format: str = ""
    problem: str | None = None

    @property
    def midi(self) -> bool:
        return self.name.lower().endswith(MIDI)

    @property
    def stem(self) -> str:
        return Path(self.name).stem or self.name

    def drop(self) -> None:
        """Forget what was sent."""
        if self.path is not None:
            self.path.unlink(missing_ok=True)
        self.path = self.problem = None


class Proposal(BaseModel):
    """Something that can be done with what was imported, in one edit."""

    name: Literal["buses", "times", "sections", "tempo", "replacements"]
    text: str
    edit: AnyEdit


def rate_of(files: list[Sent]) -> int:
    """The rate that most files have, or the nearest above it that a session can have."""
    most = Counter(sent.rate for sent in files).most_common(1)[0][0]
    return next((rate for rate in RATES if rate >= most), RATES[-1])


def proposals(session: Session, strips: list[Strip], made_of: list[Sent], files: list[Sent]) -> tuple[list[Proposal], list[str]]:
    """What can be done with new tracks: by their names, by the times in them, by their markers; and what of it was left out."""
    result: list[Proposal] = []
    takes = takes_of(session, strips)
    fresh = [strip for strip in strips if strip.id not in takes]
    groups = grouped([strip.name for strip in fresh])
    if groups:
        edits: list[AnyEdit] = []
        at = 1 + next(place for place, strip in enumerate(session.strips) if strip.kind == "main")
        for group, places in groups.items():
            bus = next((strip for strip in session.strips if strip.kind == "bus" and strip.name == group), None)
            bus_id = bus.id if bus else new_id()
            if bus is None:
                edits.append(AddStrip(strip=Strip(id=bus_id, name=group, kind="bus"), index=at))
                at += 1
            edits += [SetOutput(strip_id=fresh[place].id, output=bus_id) for place in places]
        text = "; ".join(f"{group}: {', '.join(fresh[place].name for place in places)}" for group, places in groups.items())
        result.append(Proposal(name="buses", text=text, edit=Batch(edits=edits)))
    references = [sent.markers.time_reference_s for sent in made_of]
    known = [time for time in references if time is not None]
    # One file that says when it begins lies among others that begin with the session; by itself it says nothing.
    new = {strip.id for strip in strips}
    among = len(references) > 1 or any(strip.media_id is not None and strip.id not in new for strip in session.strips)
    first = 0.0 if len(known) == 1 else min(known, default=0.0)
    if known and (len(known) > 1 or among) and SAME_TIME_S < max(known) - first < MAX_SESSION_S:
        starts = [
            Moved(of="strip", id=strip.id, name="start_s", value=round(time - first, 9))
            for strip, time in zip(strips, references, strict=True)
            if time is not None
        ]
        result.append(
            Proposal(
                name="times",
                text=f"{len(known)} files say when they begin, up to {max(known) - first:.3f} s apart"
                if len(known) > 1
                else f"one file says that it begins at {known[0]:.3f} s",
                edit=Batch(edits=[Set(values=starts[at : at + MAX_VALUES]) for at in range(0, len(starts), MAX_VALUES)]),
            )
        )
    sections, left_out = sections_of(files, made_of, MAX_SECTIONS - len(session.sections))
    if sections:
        result.append(
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
            text = ", ".join(
                part for part in (f"{bpm:g} bpm" if bpm else "", f"{beats} quarter notes in a bar" if beats else "") if part
            )
            result.append(Proposal(name="tempo", text=f"{sent.name}: {text}", edit=Set(values=moved)))
            break
    if takes:
        edits = []
        for imported, (old, media_id) in takes.items():
            edits += [ReplaceMedia(strip_id=old.id, media_id=media_id), RemoveStrip(strip_id=imported)]
        names = ", ".join(old.name for old, _ in takes.values())
        text = f"new takes of {names}: all that is done to these tracks stays"
        result.append(Proposal(name="replacements", text=text, edit=Batch(edits=edits)))
    return result, left_out


def takes_of(session: Session, strips: list[Strip]) -> dict[str, tuple[Strip, int]]:
    """The new tracks that are called like one that was there, by their ids: that track, and what it is to play."""
    new = {strip.id for strip in strips}
    tracks = replaceable(strip for strip in session.strips if strip.id not in new)
    return {
        strip.id: (tracks[name], strip.media_id)
        for name, strip in replaceable(strips).items()
        if name in tracks and strip.media_id is not None
    }


def sections_of(files: list[Sent], made_of: list[Sent], most: int) -> tuple[list[Section], list[str]]:
    """Sections from the markers of the first file that has any (MIDI before sound): each ends where the next begins. most: that
    still fit into the session. And in words which markers were left out."""
    marked = [one for one in files if one.markers.markers and one.problem is None]
    sent = min(marked, key=lambda one: not one.midi, default=None)
    if sent is None:
        return [], []
    inside = [mark for mark in sent.markers.markers if 0.0 <= mark.start_s < MAX_SESSION_S]
    marks: list[Marker] = sorted(inside, key=lambda mark: mark.start_s)[: max(most, 0)]
    lost = [mark.name for mark in sent.markers.markers if mark not in marks]
    hours = MAX_SESSION_S // 3600
    left_out = [f"{sent.name}: {named(lost)} left out: sections lie in the first {hours} hours, {MAX_SECTIONS} at most."]
    if not marks:
        return [], left_out
    length = max((one.frames / one.rate for one in made_of if one.rate), default=marks[-1].start_s + 10.0)
    ends = [mark.start_s for mark in marks[1:]] + [max(length, marks[-1].start_s + LAST_SECTION_S)]
    sections = [
        Section(name=mark.name, start_s=mark.start_s, end_s=mark.end_s or end)
        for mark, end in zip(marks, ends, strict=True)
        if (mark.end_s or end) > mark.start_s
    ]
    return sections, left_out if lost else []


def named(names: Sequence[str]) -> str:
    """The first names of several, and how many more there are."""
    more = f" and {len(names) - NAMES_SHOWN} more" if len(names) > NAMES_SHOWN else ""
    return f"{', '.join(repr(name) for name in names[:NAMES_SHOWN])}{more}"


def loudest_bars(session: Session, squares: Sequence[NDArray[np.float32]], bin_s: float, length_s: float) -> tuple[float, float]:
    """The whole of new tracks, or their eight bars with the most power, if they are longer than twice that.

    squares: mean squares of each track, a bin of bin_s seconds each.
    """
    bar = 60.0 / session.tempo_bpm * session.beats_in_bar
    span = LOUDEST_BARS * bar
    if length_s <= 2.0 * span:
        return 0.0, length_s
    power = np.zeros(max(len(track) for track in squares))
    for track in squares:
        power[: len(track)] += track
    sums = np.concatenate([[0.0], np.cumsum(power)])
    starts = np.arange(0.0, length_s - span, bar)
    at = np.minimum((np.stack([starts, starts + span]) / bin_s).astype(int), len(power))
    start = float(starts[int(np.argmax(sums[at[1]] - sums[at[0]]))])
    return start, start + span
