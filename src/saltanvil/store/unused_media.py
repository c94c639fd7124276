"""Media that no document and no edit names."""

import re
import sqlite3
from collections.abc import Iterator

#: Media named by a document or an edit, and by a change from one to another.
MEDIA_ID = re.compile(r'"media_id": ?(\d+)')
CHANGED_MEDIA_ID = re.compile(r'"media_id":\{(?:"from":(\d+))?,?(?:"to":(\d+))?')

#: What of an edit names media; earlier versions know no changes.
EDIT_TEXTS = ("edit", "change", "inverse")


def unused_media(connection: sqlite3.Connection) -> Iterator[tuple[int, int]]:
    """Media that no session, deleted ones included, and no row of the history names, with their bytes of sound."""
    used: set[int] = set()
    known = {row[1] for row in connection.execute("PRAGMA table_info(edits)")}
    queries = [f"SELECT {name} FROM edits WHERE {name} IS NOT NULL" for name in EDIT_TEXTS if name in known]  # noqa: S608 -- ours
    for query in ("SELECT document FROM sessions", *queries):
        for (text,) in connection.execute(query):
            used.update(map(int, MEDIA_ID.findall(text)))
            used.update(int(name) for names in CHANGED_MEDIA_ID.findall(text) for name in names if name)
    rows = connection.execute(
        "SELECT media.id, total(length(samples)) FROM media LEFT JOIN chunks ON media_id = media.id "
        "WHERE ready = 1 GROUP BY media.id"
    )
    for media_id, size in rows:
        if media_id not in used:
            yield media_id, int(size)
