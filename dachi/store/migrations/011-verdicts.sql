-- What trials and visits of a person say of the scatter, of both its parts.
DROP TABLE repeatability;
CREATE TABLE scatter_evidence (
  practitioner_id INTEGER NOT NULL REFERENCES practitioner(id),
  pose TEXT NOT NULL,
  family TEXT NOT NULL,
  mode TEXT NOT NULL,
  within_squares REAL NOT NULL,
  within_df REAL NOT NULL,
  between_squares REAL NOT NULL,
  between_df REAL NOT NULL,
  share REAL NOT NULL,
  cross_products REAL NOT NULL,
  cross_df REAL NOT NULL,
  PRIMARY KEY (practitioner_id, pose, family, mode)
) STRICT;
CREATE INDEX scatter_evidence_of_pose ON scatter_evidence(pose, family, mode);

-- Nothing was practised since the visit before, some days ago: what differs is scatter.
ALTER TABLE assessment ADD COLUMN still INTEGER NOT NULL DEFAULT 0;

-- What coach or practitioner felt, one tap each; an assessment's, or a practised session's.
CREATE TABLE felt (
  id INTEGER PRIMARY KEY,
  practitioner_id INTEGER NOT NULL REFERENCES practitioner(id),
  assessment_id INTEGER REFERENCES assessment(id),
  log_id INTEGER REFERENCES practice_log(id),
  kind TEXT NOT NULL CHECK (kind IN ('tighter', 'catch', 'start', 'again')),
  answer TEXT NOT NULL,
  saved_at TEXT NOT NULL,
  CHECK (assessment_id IS NOT NULL OR log_id IS NOT NULL)
) STRICT;
CREATE UNIQUE INDEX felt_at_visit ON felt(assessment_id, kind) WHERE assessment_id IS NOT NULL;
CREATE UNIQUE INDEX felt_at_session ON felt(log_id, kind) WHERE log_id IS NOT NULL;
CREATE INDEX felt_of_person ON felt(practitioner_id);

-- The same photograph marked again without seeing the first marks; readings by measure.
CREATE TABLE remark (
  id INTEGER PRIMARY KEY,
  trial_id INTEGER NOT NULL REFERENCES trial(id),
  by_whom TEXT NOT NULL,
  marks TEXT NOT NULL,
  readings TEXT NOT NULL,
  first TEXT NOT NULL,
  saved_at TEXT NOT NULL
) STRICT;
CREATE INDEX remark_of_trial ON remark(trial_id);
