-- Days of another length than usual, the same session twice a day, and a gentler way for a body
-- that wants it.
ALTER TABLE practice_profile ADD COLUMN by_day TEXT NOT NULL DEFAULT '{}';
ALTER TABLE practice_profile ADD COLUMN twice INTEGER NOT NULL DEFAULT 0;
ALTER TABLE practice_profile ADD COLUMN gentle INTEGER NOT NULL DEFAULT 0;
