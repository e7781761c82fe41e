-- How a practitioner practises, and what accepted proposals have changed.
CREATE TABLE practice_profile (
  practitioner_id INTEGER PRIMARY KEY REFERENCES practitioner(id),
  level INTEGER NOT NULL CHECK (level BETWEEN 1 AND 3),
  minutes REAL NOT NULL CHECK (minutes BETWEEN 5 AND 90),
  weekdays TEXT NOT NULL,
  cautions TEXT NOT NULL DEFAULT '[]',
  tuned TEXT NOT NULL DEFAULT '{}',
  saved_at TEXT NOT NULL
) STRICT;

-- What the coach changed in a plan by hand. Weekday -1 is the whole week.
CREATE TABLE practice_wish (
  practitioner_id INTEGER NOT NULL REFERENCES practitioner(id),
  weekday INTEGER NOT NULL CHECK (weekday BETWEEN -1 AND 6),
  drill TEXT NOT NULL,
  kind TEXT NOT NULL CHECK (kind IN ('keep', 'drop')),
  PRIMARY KEY (practitioner_id, weekday, drill)
) STRICT;

-- Plans as they were made; the newest counts. The digest is of everything they were made from.
CREATE TABLE week_plan (
  id INTEGER PRIMARY KEY,
  practitioner_id INTEGER NOT NULL REFERENCES practitioner(id),
  digest TEXT NOT NULL,
  body TEXT NOT NULL,
  made_at TEXT NOT NULL
) STRICT;
CREATE INDEX plan_of_practitioner ON week_plan(practitioner_id, id);

CREATE TABLE practice_log (
  id INTEGER PRIMARY KEY,
  practitioner_id INTEGER NOT NULL REFERENCES practitioner(id),
  once_key TEXT NOT NULL,
  started_at TEXT NOT NULL,
  seconds REAL NOT NULL CHECK (seconds BETWEEN 0 AND 86400),
  felt TEXT NOT NULL CHECK (felt IN ('easy', 'right', 'hard')),
  finished INTEGER NOT NULL CHECK (finished IN (0, 1)),
  done TEXT NOT NULL,
  notes TEXT NOT NULL DEFAULT '',
  soreness INTEGER CHECK (soreness IS NULL OR soreness BETWEEN 0 AND 10),
  created_at TEXT NOT NULL,
  UNIQUE (practitioner_id, once_key)
) STRICT;
CREATE INDEX log_of_practitioner ON practice_log(practitioner_id, started_at);

CREATE TABLE practice_pain (
  log_id INTEGER NOT NULL REFERENCES practice_log(id),
  drill TEXT NOT NULL,
  place TEXT NOT NULL,
  kind TEXT NOT NULL
) STRICT;
CREATE INDEX pain_of_log ON practice_pain(log_id);

CREATE TABLE proposal (
  id INTEGER PRIMARY KEY,
  practitioner_id INTEGER NOT NULL REFERENCES practitioner(id),
  kind TEXT NOT NULL,
  subject TEXT NOT NULL,
  text TEXT NOT NULL,
  reason TEXT NOT NULL,
  change TEXT NOT NULL,
  made_at TEXT NOT NULL,
  decided_at TEXT,
  accepted INTEGER CHECK (accepted IN (0, 1))
) STRICT;
CREATE INDEX proposal_of_practitioner ON proposal(practitioner_id, decided_at);

-- The practitioner's own page: whoever has the link sees it, until the coach takes it back.
CREATE TABLE private_link (
  nonce TEXT PRIMARY KEY,
  practitioner_id INTEGER NOT NULL REFERENCES practitioner(id),
  created_at TEXT NOT NULL,
  revoked_at TEXT
) STRICT;
CREATE INDEX link_of_practitioner ON private_link(practitioner_id);

ALTER TABLE practitioner ADD COLUMN email TEXT NOT NULL DEFAULT '';
