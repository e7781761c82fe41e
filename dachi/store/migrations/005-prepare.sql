-- Consent to photographs: given, for what, by whom, and taken back.
CREATE TABLE consent (
  id INTEGER PRIMARY KEY,
  practitioner_id INTEGER NOT NULL REFERENCES practitioner(id),
  given_on TEXT NOT NULL,
  scope TEXT NOT NULL CHECK (scope IN ('measure', 'show', 'teaching')),
  guardian TEXT NOT NULL DEFAULT '',
  withdrawn_on TEXT,
  created_at TEXT NOT NULL
) STRICT;
CREATE INDEX consent_of_practitioner ON consent(practitioner_id, id);

-- Answers to the screening questions (ids that were answered yes), and clearance if it was given.
CREATE TABLE screening (
  id INTEGER PRIMARY KEY,
  practitioner_id INTEGER NOT NULL REFERENCES practitioner(id),
  answered_on TEXT NOT NULL,
  yes TEXT NOT NULL,
  cleared_by TEXT NOT NULL DEFAULT '',
  cleared_on TEXT,
  created_at TEXT NOT NULL
) STRICT;
CREATE INDEX screening_of_practitioner ON screening(practitioner_id, id);
