CREATE TABLE sessions (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL,
    document TEXT NOT NULL,
    revision INTEGER NOT NULL DEFAULT 0,
    position INTEGER NOT NULL DEFAULT 0,
    changed_at REAL NOT NULL,
    deleted_at REAL
);
CREATE TABLE edits (
    session_id INTEGER NOT NULL REFERENCES sessions (id) ON DELETE CASCADE,
    seq INTEGER NOT NULL,
    edit TEXT NOT NULL,
    inverse TEXT NOT NULL,
    gesture TEXT,
    PRIMARY KEY (session_id, seq)
);
CREATE TABLE media (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL,
    format TEXT NOT NULL,
    rate_hz INTEGER NOT NULL,
    channels INTEGER NOT NULL,
    frames INTEGER NOT NULL DEFAULT 0,
    ready INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE renditions (
    media_id INTEGER NOT NULL REFERENCES media (id) ON DELETE CASCADE,
    rate_hz INTEGER NOT NULL,
    frames INTEGER NOT NULL,
    PRIMARY KEY (media_id, rate_hz)
);
CREATE TABLE chunks (
    media_id INTEGER NOT NULL REFERENCES media (id) ON DELETE CASCADE,
    rate_hz INTEGER NOT NULL,
    place INTEGER NOT NULL,
    samples BLOB NOT NULL,
    PRIMARY KEY (media_id, rate_hz, place)
);
CREATE TABLE pyramids (
    media_id INTEGER NOT NULL REFERENCES media (id) ON DELETE CASCADE,
    bin_frames INTEGER NOT NULL,
    extremes BLOB NOT NULL,
    PRIMARY KEY (media_id, bin_frames)
);
