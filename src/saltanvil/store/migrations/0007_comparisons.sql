-- Results of blind comparisons, kept with their session.
CREATE TABLE comparisons (
    id INTEGER PRIMARY KEY,
    session_id INTEGER NOT NULL REFERENCES sessions (id) ON DELETE CASCADE,
    made_at REAL NOT NULL,
    result TEXT NOT NULL
);
CREATE INDEX comparisons_of_session ON comparisons (session_id, made_at);
