-- Since when no session and no undo row has needed it, in seconds since 1970.
ALTER TABLE media ADD COLUMN unused_since REAL;
