-- What looks like a slip (derived with the verdicts), and what a coach says of it.
CREATE TABLE doubt (
  practitioner_id INTEGER NOT NULL REFERENCES practitioner(id),
  assessment_id INTEGER NOT NULL REFERENCES assessment(id),
  what TEXT NOT NULL CHECK (what IN ('trial', 'slip', 'visit', 'jump')),
  pose TEXT NOT NULL, side TEXT NOT NULL, mode TEXT NOT NULL, size REAL NOT NULL, day REAL NOT NULL,
  PRIMARY KEY (assessment_id, what, pose, side, mode)) STRICT;
CREATE INDEX doubt_of_practitioner ON doubt(practitioner_id);
CREATE TABLE doubt_answer (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  assessment_id INTEGER NOT NULL REFERENCES assessment(id),
  what TEXT NOT NULL CHECK (what IN ('trial', 'slip', 'visit', 'jump')),
  pose TEXT NOT NULL, side TEXT NOT NULL, mode TEXT NOT NULL,
  answer TEXT NOT NULL CHECK (answer IN ('so', 'off', 'set_up', 'tryout')),
  said_at TEXT NOT NULL, UNIQUE (assessment_id, what, pose, side, mode)) STRICT;
