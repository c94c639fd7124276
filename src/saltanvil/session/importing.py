"""What files to be imported are called as tracks, in which order they come, and what belongs together. From names alone."""

import re
from collections.abc import Sequence

from saltanvil.session.track_words import GROUPS, WEAK

SEPARATORS = re.compile(r"[\s_.\-]+")
SIDE = re.compile(r"^(?P<name>.+?)[\s_.\-]+(?P<side>[LRlr])$")
#: What makes a name: two letters that follow each other.
WORD = re.compile(r"[^\W\d_]{2}")
#: A bus for one track alone is no group.
MIN_TRACKS = 2


def natural_key(name: str) -> list[tuple[int, int, str]]:
    """Sorts `2 Snare` before `10 Hat`, without regard to case."""
    return [(0, int(part), "") if part.isdecimal() else (1, 0, part.casefold()) for part in re.split(r"(\d+)", name) if part]


def track_names(names: Sequence[str]) -> list[str]:
    """Names of files, without suffix, as tracks: what all begin or end with is taken off, and leading numbers.

    `03_Quay_Snare_120bpm`, `04_Quay_Hat_120bpm` become `Snare`, `Hat`. Names that would become the same, or empty, stay.
    """
    if len(names) < 2:
        return [shown(name.split()) or name for name in names]
    tokens = [[part for part in SEPARATORS.split(name) if part] or [name] for name in names]
    while True:
        if same(tokens, 0) or all(parts[0].isdigit() for parts in tokens):
            shorter = [parts[1:] for parts in tokens]
        elif same(tokens, -1):
            shorter = [parts[:-1] for parts in tokens]
        else:
            break
        if not all(WORD.search(shown(parts)) for parts in shorter):
            break  # a number alone is no name
        tokens = shorter
    result = [shown(parts) for parts in tokens]
    return [
        clean if clean and result.count(clean) == 1 else shown([part for part in SEPARATORS.split(name) if part]) or name
        for clean, name in zip(result, names, strict=True)
    ]


def same(tokens: list[list[str]], place: int) -> bool:
    return len({parts[place].casefold() for parts in tokens}) == 1


def shown(parts: Sequence[str]) -> str:
    return " ".join(parts)


def pairs(names: Sequence[str], joinable: Sequence[bool]) -> dict[int, int]:
    """Places of left sides and of their right ones, where names differ in `.L` and `.R` (or ` L`, `_L`, `-L`) only.

    joinable: whether the file is mono, and so can be one side.
    """
    sides: dict[str, dict[str, int]] = {}
    for place, name in enumerate(names):
        result = SIDE.match(name)
        if result and joinable[place]:
            sides.setdefault(result["name"].casefold(), {}).setdefault(result["side"].upper(), place)
    return {both["L"]: both["R"] for both in sides.values() if len(both) == 2}


def without_side(name: str) -> str:
    result = SIDE.match(name)
    return result["name"] if result else name


def group_of(name: str) -> str | None:
    """The group a track belongs to by its name."""
    words = [part.casefold().rstrip("0123456789") for part in SEPARATORS.split(name)]
    words = [word.removesuffix("s") if len(word) > 3 else word for word in words if word]
    text = f" {' '.join(words)} "
    for groups in (GROUPS, WEAK):
        for group, known in groups.items():
            if any(f" {singular(word)} " in text for word in known):
                return group
    return None


def singular(word: str) -> str:
    word = SEPARATORS.sub(" ", word)
    return word.removesuffix("s") if len(word) > 3 else word


def grouped(names: Sequence[str]) -> dict[str, list[int]]:
    """Places of the tracks of each group that has several."""
    result: dict[str, list[int]] = {}
    for place, name in enumerate(names):
        group = group_of(name)
        if group is not None:
            result.setdefault(group, []).append(place)
    return {group: places for group, places in result.items() if len(places) >= MIN_TRACKS}
