-- When each edit was made, and what it did in words; edits of earlier versions have neither.
ALTER TABLE edits ADD COLUMN made_at REAL;
ALTER TABLE edits ADD COLUMN words TEXT;
