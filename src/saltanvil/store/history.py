"""The way through a session's history: from what the document is to what it was, or will be again."""

import json
import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from saltanvil.session.apply import apply
from saltanvil.session.changes import Change, applied, difference, moved, tree_difference, tree_of
from saltanvil.session.document.path import Match
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import EditRefused
from saltanvil.session.format import FORMAT, Unreadable, data_of, read_edit, read_session


@dataclass
class Walk:
    """Where a way through the history led. learnt: the changes of edits of earlier versions, which had none, by their seq."""

    session: Session
    learnt: dict[int, Change] = field(default_factory=dict)


def written_change(change: Change) -> str:
    return json.dumps({"format": FORMAT, **change}, separators=(",", ":"), allow_nan=False)


def walk(connection: sqlite3.Connection, session_id: int, session: Session, position: int, to: int) -> Walk:
    """From a version with so many edits in force to that with `to` of them, without the matches measured there.

    Raises EditRefused if there are not so many, or an edit of an earlier version cannot be undone; Unreadable.
    """
    back = to < position
    rows = connection.execute(
        "SELECT seq, edit, change, inverse FROM edits WHERE session_id = ? AND seq > ? AND seq <= ? ORDER BY seq",
        (session_id, min(position, to), max(position, to)),
    ).fetchall()
    if to < 0 or len(rows) != abs(to - position):
        raise EditRefused(f"there is no place {to} in the history")
    result = Walk(session)
    waiting: list[tuple[Change, bool]] = []
    for row in reversed(rows) if back else rows:
        if row["change"] is not None:
            waiting.append((data_of(row["change"], "a change of the history"), back))
            continue
        before = moved_on(result.session, waiting)
        waiting = []
        result.session = apply(before, read_edit(row["inverse" if back else "edit"]))
        result.learnt[row["seq"]] = difference(result.session, before) if back else difference(before, result.session)
    result.session = moved_on(result.session, waiting)
    return result


def moved_on(session: Session, changes: Sequence[tuple[Change, bool]]) -> Session:
    if not changes:
        return session
    try:
        return moved(session, changes)
    except (ValueError, LookupError) as error:
        raise Unreadable(f"this place of the history cannot be read: {' '.join(str(error).split())[:300]}") from error


def renew(connection: sqlite3.Connection, session_id: int) -> None:
    """Give the changes of a session that an earlier format kept the present one: each is worked out anew between the versions on
    either side of it, which are migrated as documents are. Within a transaction, before the document is written anew."""
    row = connection.execute("SELECT name, document, position FROM sessions WHERE id = ?", (session_id,)).fetchone()
    document = data_of(row["document"], f"the session {row['name']!r}")
    number = document.get("format", 1)
    if number == FORMAT:
        return
    edits = connection.execute(
        "SELECT seq, change FROM edits WHERE session_id = ? AND change IS NOT NULL", (session_id,)
    ).fetchall()
    changes = {edit["seq"]: data_of(edit["change"], "a change of the history") for edit in edits}

    def present(tree: dict[str, Any]) -> Any:
        """A version of the old format, as JSON of the present one."""
        strips = [tree["strips"][name] for name in tree["order"]]
        data = {**{name: part for name, part in tree.items() if name != "order"}, "strips": strips, "format": number}
        return tree_of(read_session(json.dumps(data), row["name"])[0])

    strips = {strip["id"]: strip for strip in document["strips"]}
    start = {**document, "strips": strips, "order": list(strips)}
    start.pop("format", None)
    # Only rows next to each other can be renewed: an edit of an earlier version has its inverse, and is applied as one.
    for back in (True, False):
        tree = json.loads(json.dumps(start))
        seq = row["position"] if back else row["position"] + 1
        here = present(tree)
        while seq in changes:
            tree = applied(tree, {"of": changes[seq]["of"]}, back)
            there = present(tree)
            change = tree_difference(there, here) if back else tree_difference(here, there)
            connection.execute(
                "UPDATE edits SET change = ? WHERE session_id = ? AND seq = ?", (written_change(change), session_id, seq)
            )
            here, seq = there, seq + (-1 if back else 1)


# ---- matches beside the history ------------------------------------------------------------------------------------------


def matches_at(connection: sqlite3.Connection, session_id: int, position: int) -> dict[str, Match]:
    """What had been measured when so many edits were in force, as far as it is known."""
    rows = {
        row["seq"]: row
        for row in connection.execute(
            "SELECT seq, matches_before, matches_after FROM edits WHERE session_id = ? AND seq IN (?, ?)",
            (session_id, position, position + 1),
        )
    }
    following, own = rows.get(position + 1), rows.get(position)
    kept = following["matches_before"] if following is not None else own["matches_after"] if own is not None else None
    return {} if kept is None else loaded(kept)


def note_matches(connection: sqlite3.Connection, session_id: int, position: int, matches: Mapping[str, Match]) -> None:
    """Remember what has been measured at a place of the history that is left."""
    connection.execute(
        "UPDATE edits SET matches_after = ? WHERE session_id = ? AND seq = ?", (dumped(matches), session_id, position)
    )
    connection.execute(
        "UPDATE edits SET matches_before = ? WHERE session_id = ? AND seq = ?", (dumped(matches), session_id, position + 1)
    )


def dumped(matches: Mapping[str, Match]) -> str:
    return json.dumps({step_id: match.model_dump(mode="json") for step_id, match in matches.items()}, separators=(",", ":"))


def loaded(text: str) -> dict[str, Match]:
    return {step_id: Match.model_validate(match) for step_id, match in json.loads(text).items()}
