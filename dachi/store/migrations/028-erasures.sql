-- What is to go after its rows are gone: pictures and letters by name, until files, copies and the
-- database's free pages are clear of it. A row is let go when all of it is done.
CREATE TABLE erasure (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  coach_id INTEGER NOT NULL REFERENCES coach(id),
  asked_at TEXT NOT NULL,
  uid TEXT NOT NULL DEFAULT '',
  pictures TEXT NOT NULL DEFAULT '[]',
  letters TEXT NOT NULL DEFAULT '[]'
) STRICT;
CREATE INDEX erasure_of_coach ON erasure(coach_id);

-- A photograph left out of an assessment is still somebody's: it stays with the visit, out of
-- sight, until it goes like a deleted one.
ALTER TABLE tray ADD COLUMN left_out_at TEXT;
