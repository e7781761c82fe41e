-- How a session felt is known where somebody said it, and only there.
CREATE TABLE new_practice_log (
  id INTEGER PRIMARY KEY AUTOINCREMENT, practitioner_id INTEGER NOT
  NULL REFERENCES practitioner(id), once_key TEXT NOT NULL, started_at TEXT NOT NULL, seconds REAL
  NOT NULL CHECK (seconds BETWEEN 0 AND 86400), felt TEXT CHECK (felt IN ('easy', 'right', 'hard')),
  finished INTEGER NOT NULL CHECK (finished IN (0, 1)), done TEXT NOT NULL,
  notes TEXT NOT NULL DEFAULT '', soreness INTEGER CHECK (soreness IS NULL OR soreness BETWEEN 0
  AND 10), created_at TEXT NOT NULL, removed_at TEXT, UNIQUE (practitioner_id, once_key)) STRICT;
INSERT INTO new_practice_log SELECT * FROM practice_log;
DROP TABLE practice_log;
ALTER TABLE new_practice_log RENAME TO practice_log;
CREATE INDEX log_of_practitioner ON practice_log(practitioner_id, started_at);
