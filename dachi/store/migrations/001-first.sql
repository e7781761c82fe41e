CREATE TABLE coach (
  id INTEGER PRIMARY KEY,
  email TEXT NOT NULL UNIQUE COLLATE NOCASE,
  name TEXT NOT NULL,
  password_hash TEXT NOT NULL,
  session_stamp TEXT NOT NULL,
  created_at TEXT NOT NULL
) STRICT;

CREATE TABLE practitioner (
  id INTEGER PRIMARY KEY,
  coach_id INTEGER NOT NULL REFERENCES coach(id),
  call_name TEXT NOT NULL,
  birth_year INTEGER,
  height_cm REAL,
  thigh_cm REAL,
  shin_cm REAL,
  half_width_cm REAL NOT NULL DEFAULT 16,
  notes TEXT NOT NULL DEFAULT '',
  created_at TEXT NOT NULL
) STRICT;
CREATE INDEX practitioner_of_coach ON practitioner(coach_id, call_name);

CREATE TABLE assessment (
  id INTEGER PRIMARY KEY,
  practitioner_id INTEGER NOT NULL REFERENCES practitioner(id),
  taken_at TEXT NOT NULL,
  warmth TEXT NOT NULL CHECK (warmth IN ('warm', 'cold')),
  notes TEXT NOT NULL DEFAULT '',
  once_key TEXT UNIQUE,
  created_at TEXT NOT NULL
) STRICT;
CREATE INDEX assessment_of_practitioner ON assessment(practitioner_id, taken_at);

CREATE TABLE photo (
  id INTEGER PRIMARY KEY,
  coach_id INTEGER NOT NULL REFERENCES coach(id),
  sha256 TEXT NOT NULL,
  source_sha256 TEXT NOT NULL,
  width INTEGER NOT NULL,
  height INTEGER NOT NULL,
  focal_35mm REAL,
  taken_at TEXT,
  origin TEXT NOT NULL CHECK (origin IN ('upload', 'simulated')),
  truth TEXT,
  created_at TEXT NOT NULL,
  UNIQUE (coach_id, source_sha256)
) STRICT;

-- One place the camera stood during an assessment; its mat corners serve every shot from there.
CREATE TABLE camera_position (
  id INTEGER PRIMARY KEY,
  assessment_id INTEGER NOT NULL REFERENCES assessment(id),
  view TEXT NOT NULL,
  mat_length_cm REAL NOT NULL DEFAULT 183,
  mat_width_cm REAL NOT NULL DEFAULT 61,
  created_at TEXT NOT NULL
) STRICT;

CREATE TABLE trial (
  id INTEGER PRIMARY KEY,
  assessment_id INTEGER NOT NULL REFERENCES assessment(id),
  photo_id INTEGER NOT NULL REFERENCES photo(id),
  position_id INTEGER REFERENCES camera_position(id),
  pose TEXT NOT NULL,
  side TEXT NOT NULL CHECK (side IN ('left', 'right', 'both')),
  mode TEXT NOT NULL CHECK (mode IN ('active', 'passive')),
  variant TEXT NOT NULL DEFAULT '{}',
  number INTEGER NOT NULL CHECK (number BETWEEN 1 AND 9),
  once_key TEXT UNIQUE,
  created_at TEXT NOT NULL,
  deleted_at TEXT
) STRICT;
CREATE INDEX trial_of_assessment ON trial(assessment_id);
CREATE UNIQUE INDEX trial_slot ON trial(assessment_id, pose, side, mode, number)
  WHERE deleted_at IS NULL;

-- Marks are facts: a correction adds a row and the earlier one stays.
CREATE TABLE marking (
  id INTEGER PRIMARY KEY,
  trial_id INTEGER NOT NULL REFERENCES trial(id),
  number INTEGER NOT NULL,
  marks TEXT NOT NULL,
  mark_sds TEXT NOT NULL DEFAULT '{}',
  level TEXT,
  corners TEXT,
  facing TEXT,
  author TEXT NOT NULL DEFAULT 'hand',
  overrule_reason TEXT NOT NULL DEFAULT '',
  once_key TEXT UNIQUE,
  created_at TEXT NOT NULL,
  UNIQUE (trial_id, number)
) STRICT;

-- Readings are derived from a marking and can be computed again.
CREATE TABLE reading (
  marking_id INTEGER NOT NULL REFERENCES marking(id),
  measure TEXT NOT NULL,
  label TEXT NOT NULL,
  unit TEXT NOT NULL,
  value REAL NOT NULL,
  sd REAL NOT NULL,
  low REAL NOT NULL,
  high REAL NOT NULL,
  headline INTEGER NOT NULL,
  method TEXT NOT NULL,
  catalogue_version TEXT NOT NULL,
  PRIMARY KEY (marking_id, measure)
) STRICT;

CREATE TABLE check_result (
  marking_id INTEGER NOT NULL REFERENCES marking(id),
  check_id TEXT NOT NULL,
  label TEXT NOT NULL,
  value REAL NOT NULL,
  sd REAL NOT NULL,
  unit TEXT NOT NULL,
  limit_value REAL NOT NULL,
  status TEXT NOT NULL CHECK (status IN ('ok', 'watch', 'retake')),
  message TEXT NOT NULL,
  PRIMARY KEY (marking_id, check_id)
) STRICT;

-- Where the rings were last left, so that an interruption loses nothing.
CREATE TABLE draft (
  trial_id INTEGER PRIMARY KEY REFERENCES trial(id),
  body TEXT NOT NULL,
  updated_at TEXT NOT NULL
) STRICT;
