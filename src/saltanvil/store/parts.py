"""What an edit is about, the delivery or the sound, and how the last edit of one is undone though the other was edited since.

The two change different members of a document, so their edits can change places in the history: the one that is wanted is brought
to its end, and undone there.
"""

import sqlite3
from typing import Literal

from saltanvil.session.edits.base import EditRefused
from saltanvil.session.format import data_of

Part = Literal["delivery", "sound"]
WORDS: dict[Part, str] = {"delivery": "no setting of the delivery", "sound": "no edit of the sound"}
#: How an edit is told to be about the delivery.
OP = "json_extract(edit, '$.op')"


def bring(connection: sqlite3.Connection, session_id: int, position: int, part: Part, back: bool, matches: str) -> None:
    """Make the next edit of a part that would be undone (back), or redone, the next one of all. Within a transaction.

    matches: what is measured now, as it is stored; no edit of the delivery changes it. Raises EditRefused if there is none.
    """
    about = "=" if part == "delivery" else "!="
    order, side = ("DESC", "seq <= ?") if back else ("ASC", "seq > ?")
    row = connection.execute(
        f"SELECT seq FROM edits WHERE session_id = ? AND {side} AND {OP} {about} 'set_delivery' ORDER BY seq {order} LIMIT 1",  # noqa: S608
        (session_id, position),
    ).fetchone()
    if row is None:
        raise EditRefused(f"there is {WORDS[part]} to {'undo' if back else 'redo'}")
    seq, target = int(row["seq"]), position if back else position + 1
    if seq == target:
        return
    between = (session_id, *((seq + 1, target) if back else (target, seq - 1)))
    moved = members(connection, session_id, seq, seq)
    if moved & members(connection, *between):
        raise EditRefused("later edits hang together with this one; go back in the history instead")
    step = -1 if back else 1
    connection.execute("UPDATE edits SET seq = -? WHERE session_id = ? AND seq = ?", (target, session_id, seq))
    connection.execute(
        "UPDATE edits SET seq = -(seq + ?), matches_before = NULL, matches_after = NULL "
        "WHERE session_id = ? AND seq BETWEEN ? AND ?",
        (step, *between),
    )
    connection.execute("UPDATE edits SET seq = -seq WHERE session_id = ? AND seq < 0", (session_id,))
    if part == "delivery":
        connection.execute(
            "UPDATE edits SET matches_before = ? WHERE session_id = ? AND seq IN (?, ?)",
            (matches, session_id, target, target + 1),
        )


def members(connection: sqlite3.Connection, session_id: int, first: int, last: int) -> set[str]:
    """The members of the document that some edits change. Raises EditRefused where an edit of an earlier version does not say."""
    rows = connection.execute(
        "SELECT change FROM edits WHERE session_id = ? AND seq BETWEEN ? AND ?", (session_id, first, last)
    ).fetchall()
    if any(row["change"] is None for row in rows):
        raise EditRefused("edits of an earlier version lie between; go back in the history instead")
    return {name for row in rows for name in data_of(row["change"], "a change of the history")["of"]}
