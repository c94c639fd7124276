"""CSV as spreadsheets open it: text that one would run as a formula stands behind an apostrophe."""

FORMULA = ("=", "+", "-", "@", "\t", "\r")


def guarded(text: str) -> str:
    """A name that a spreadsheet would take for a formula, as text."""
    return f"'{text}" if text.lstrip("'").startswith(FORMULA) else text


def unguarded(text: str) -> str:
    """What was guarded."""
    return text[1:] if text[:1] == "'" and text[1:].lstrip("'").startswith(FORMULA) else text
