-- The last delivery check of each session, with a digest of the version it belongs to.
CREATE TABLE delivery_checks (
    session_id INTEGER PRIMARY KEY REFERENCES sessions (id) ON DELETE CASCADE,
    made_at REAL NOT NULL,
    result TEXT NOT NULL
);
