"""Names of files that any system takes, each once: of deliveries, archives, batches and zips."""

import re
import unicodedata
from collections.abc import Iterable, Sequence

#: Of a whole name, as UTF-8: the shortest limit in use is 255, and what is not finished yet has a longer name.
MAX_NAME_BYTES = 200
FORBIDDEN = re.compile(r'[\x00-\x1f<>:"/\\|?*\x7f]')
#: Names of devices, with any ending (documentation of Win32 naming, from memory).
DEVICE = re.compile(r"(con|prn|aux|nul|conin\$|conout\$|(com|lpt)[0-9¹²³])(\s*\..*)?", re.IGNORECASE)


def without_marks(name: str) -> str:
    """A name without marks that are not seen, such as those that turn the direction of writing and hide a file's ending."""
    return "".join(character for character in name if unicodedata.category(character) not in ("Cf", "Cc", "Cs", "Co"))


def cut(text: str, size: int) -> str:
    """At most so many bytes of UTF-8, in whole characters."""
    return text.encode()[: max(size, 0)].decode(errors="ignore")


def file_name(title: str, suffix: str = "", number: int = 1) -> str:
    """A title as the name of a file. number: from 2 on it stands behind the title."""
    ending = f"{f' {number}' if number > 1 else ''}{suffix}"
    base = FORBIDDEN.sub("_", without_marks(title)).strip(" .")
    base = cut(base, MAX_NAME_BYTES - len(ending.encode())).strip(" .") or "untitled"
    if DEVICE.fullmatch(base + suffix):
        base = f"_{cut(base, MAX_NAME_BYTES - len(ending.encode()) - 1)}"
    return base + ending


def name_key(name: str) -> str:
    """Equal for names that some system takes for the same: without regard to case and to how accents are written."""
    return unicodedata.normalize("NFC", unicodedata.normalize("NFC", name).casefold())


def file_names(titles: Sequence[str], suffixes: Sequence[str], taken: Iterable[str] = ()) -> list[str]:
    """Titles as file names, each once; folders before a title stay, part by part. taken: keys of names that are not free."""
    seen = set(taken)
    following: dict[str, int] = {}
    result: list[str] = []
    for title, suffix in zip(titles, suffixes, strict=True):
        *folders, own = title.split("/")
        place = "".join(f"{file_name(folder)}/" for folder in folders)
        first = name_key(place + file_name(own, suffix))
        number = following.get(first, 1)
        while name_key(name := place + file_name(own, suffix, number)) in seen:
            number += 1
        following[first] = number + 1
        seen.add(name_key(name))
        result.append(name)
    return result
