-- Numbers of media are given anew once media were removed; what was rendered of them goes by a key that no other ever has.
ALTER TABLE media ADD COLUMN key TEXT NOT NULL DEFAULT '';
UPDATE media SET key = lower(hex(randomblob(16)));
