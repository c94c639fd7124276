-- What an edit did to the document, exactly; edits of earlier versions have an inverse edit instead.
CREATE TABLE edits_new (
    session_id INTEGER NOT NULL REFERENCES sessions (id) ON DELETE CASCADE,
    seq INTEGER NOT NULL,
    edit TEXT NOT NULL,
    change TEXT,
    inverse TEXT,
    gesture TEXT,
    matches_before TEXT,
    matches_after TEXT,
    made_at REAL,
    words TEXT,
    PRIMARY KEY (session_id, seq)
);
INSERT INTO edits_new (session_id, seq, edit, inverse, gesture, matches_before, matches_after, made_at, words)
    SELECT session_id, seq, edit, inverse, gesture, matches_before, matches_after, made_at, words FROM edits;
DROP TABLE edits;
ALTER TABLE edits_new RENAME TO edits;
