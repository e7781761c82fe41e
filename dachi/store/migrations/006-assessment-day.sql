-- What a practitioner brings: side, props owned, choices between schools, pace of breath.
ALTER TABLE practitioner ADD COLUMN dominant_side TEXT NOT NULL DEFAULT ''
  CHECK (dominant_side IN ('', 'left', 'right'));
ALTER TABLE practitioner ADD COLUMN props TEXT NOT NULL DEFAULT '["mat", "wall"]';
ALTER TABLE practitioner ADD COLUMN schools TEXT NOT NULL DEFAULT '{}';
ALTER TABLE practitioner ADD COLUMN breath_s REAL NOT NULL DEFAULT 8
  CHECK (breath_s BETWEEN 3 AND 30);

-- Faces are made unrecognisable outside the bench unless the person agrees otherwise.
ALTER TABLE consent ADD COLUMN faces INTEGER NOT NULL DEFAULT 0 CHECK (faces IN (0, 1));

-- Two devices on one assessment: whoever saves second is shown what the first one did.
ALTER TABLE assessment ADD COLUMN revision INTEGER NOT NULL DEFAULT 0;
ALTER TABLE assessment ADD COLUMN signed_off_at TEXT;

-- How the person is today.
CREATE TABLE assessment_state (
  assessment_id INTEGER PRIMARY KEY REFERENCES assessment(id),
  pain TEXT NOT NULL DEFAULT '{}',
  sleep_h REAL CHECK (sleep_h IS NULL OR sleep_h BETWEEN 0 AND 24),
  hard_training TEXT NOT NULL DEFAULT '',
  warm_up_min REAL CHECK (warm_up_min IS NULL OR warm_up_min BETWEEN 0 AND 180),
  saved_at TEXT NOT NULL
) STRICT;

-- The run sheet: rows in the order they are photographed.
CREATE TABLE sheet_line (
  assessment_id INTEGER NOT NULL REFERENCES assessment(id),
  place INTEGER NOT NULL,
  pose TEXT NOT NULL,
  side TEXT NOT NULL CHECK (side IN ('left', 'right', 'both')),
  mode TEXT NOT NULL CHECK (mode IN ('active', 'passive')),
  trials INTEGER NOT NULL CHECK (trials BETWEEN 1 AND 9),
  PRIMARY KEY (assessment_id, pose, side, mode)
) STRICT;

-- Signing off and opening again.
CREATE TABLE assessment_event (
  id INTEGER PRIMARY KEY,
  assessment_id INTEGER NOT NULL REFERENCES assessment(id),
  kind TEXT NOT NULL CHECK (kind IN ('signed off', 'reopened')),
  reason TEXT NOT NULL DEFAULT '',
  at TEXT NOT NULL
) STRICT;
CREATE INDEX event_of_assessment ON assessment_event(assessment_id, id);

-- A phone may photograph for one assessment until its link expires.
CREATE TABLE phone_link (
  nonce TEXT PRIMARY KEY,
  assessment_id INTEGER NOT NULL REFERENCES assessment(id),
  expires_at TEXT NOT NULL,
  revoked_at TEXT,
  created_at TEXT NOT NULL
) STRICT;

-- Photographs taken in and not yet sorted onto the sheet.
CREATE TABLE tray (
  assessment_id INTEGER NOT NULL REFERENCES assessment(id),
  photo_id INTEGER NOT NULL REFERENCES photo(id),
  name TEXT NOT NULL,
  created_at TEXT NOT NULL,
  PRIMARY KEY (assessment_id, photo_id)
) STRICT;

-- An angle from another instrument beside the photograph's, degrees.
CREATE TABLE second_opinion (
  trial_id INTEGER PRIMARY KEY REFERENCES trial(id),
  device TEXT NOT NULL,
  angle REAL NOT NULL,
  sd REAL NOT NULL,
  saved_at TEXT NOT NULL
) STRICT;

-- Where the head is, px of the stored photograph, where the coach has said so.
CREATE TABLE head_region (
  photo_id INTEGER PRIMARY KEY REFERENCES photo(id),
  x REAL NOT NULL,
  y REAL NOT NULL,
  radius REAL NOT NULL CHECK (radius > 0)
) STRICT;
