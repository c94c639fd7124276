-- What was measured to hold the loudness belongs to the edit that caused it: as it was before the edit, and when it was undone.
ALTER TABLE edits ADD COLUMN matches_before TEXT;
ALTER TABLE edits ADD COLUMN matches_after TEXT;
