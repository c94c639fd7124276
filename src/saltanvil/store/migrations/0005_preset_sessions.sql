-- The session a preset belongs to; null: it is there in every session. Names count within a session.
ALTER TABLE presets ADD COLUMN session_id INTEGER REFERENCES sessions (id) ON DELETE CASCADE;
DROP INDEX presets_by_name;
CREATE UNIQUE INDEX presets_by_name ON presets (kind, name, COALESCE(session_id, 0)) WHERE deleted_at IS NULL;
