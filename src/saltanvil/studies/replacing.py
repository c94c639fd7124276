"""Recordings that take the place of others: which file is for which track, and in what it differs."""

from collections.abc import Iterable, Sequence
from pathlib import Path

from saltanvil.engine.media import Media
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.importing import SEPARATORS, track_names

SIDES = {1: "mono", 2: "stereo"}
#: Shorter differences are the rounding of another rate.
SAME_S = 0.0005


def plain(name: str) -> str:
    """A name without regard to case and to what stands between its words."""
    return " ".join(part for part in SEPARATORS.split(name) if part).casefold()


def replaceable(strips: Iterable[Strip]) -> dict[str, Strip]:
    """The tracks whose recording can be replaced, by their plain names; without those of which two are called the same."""
    result: dict[str, Strip] = {}
    twice = set()
    for strip in strips:
        if strip.media_id is not None and strip.printed is None:
            name = plain(strip.name)
            twice |= {name} & result.keys()
            result[name] = strip
    return {name: strip for name, strip in result.items() if name not in twice}


def files_for(session: Session, files: Sequence[Path]) -> dict[str, Path]:
    """The file for each track, by its id: one that is called like it, or once what all files have in common is taken off."""
    tracks = replaceable(session.strips)
    stems = [file.stem for file in files]
    result: dict[str, Path] = {}
    for names in (track_names(stems), stems):  # the name as it is goes first
        result |= {tracks[plain(name)].id: file for name, file in zip(names, files, strict=True) if plain(name) in tracks}
    return result


def differences(media: Media, rate: int, strip: Strip, media_id: int, begins_s: float | None) -> list[str]:
    """In what a recording differs from the one that a track plays. begins_s: when the new file says that it begins."""
    sides, lengths = ([of(number) for number in (strip.media_id or 0, media_id)] for of in (media.channels, media.frames))
    before_s, after_s = (frames / rate for frames in lengths)
    notes = []
    if sides[0] != sides[1]:
        notes.append(f"{SIDES[sides[1]]} now, {SIDES[sides[0]]} before: level and pan act by another law.")
    if abs(after_s - before_s) > SAME_S:
        notes.append(f"{after_s:.3f} s long, {before_s:.3f} s before.")
    if begins_s is not None and abs(begins_s - strip.start_s) > SAME_S:
        notes.append(f"It says that it begins at {begins_s:.3f} s; the track begins at {strip.start_s:.3f} s.")
    return notes
