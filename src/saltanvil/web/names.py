"""Names that come from outside."""

import unicodedata


def without_marks(name: str) -> str:
    """A name without marks that are not seen, such as those that turn the direction of writing and hide a file's ending."""
    return "".join(character for character in name if unicodedata.category(character) not in ("Cf", "Cc", "Cs", "Co"))
