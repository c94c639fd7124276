CREATE TABLE presets (
    id INTEGER PRIMARY KEY,
    kind TEXT NOT NULL,
    name TEXT NOT NULL,
    settings TEXT NOT NULL,
    changed_at REAL NOT NULL,
    deleted_at REAL
);
CREATE UNIQUE INDEX presets_by_name ON presets (kind, name) WHERE deleted_at IS NULL;
