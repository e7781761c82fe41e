ALTER TABLE practitioner ADD COLUMN next_visit_at TEXT;

-- What a practitioner wants to reach: a value of one measure, on one side, by a date.
CREATE TABLE goal (
  id INTEGER PRIMARY KEY,
  practitioner_id INTEGER NOT NULL REFERENCES practitioner(id),
  pose TEXT NOT NULL,
  family TEXT NOT NULL,
  side TEXT NOT NULL CHECK (side IN ('left', 'right', 'both')),
  mode TEXT NOT NULL CHECK (mode IN ('active', 'passive')),
  target REAL NOT NULL,
  due_on TEXT,
  created_at TEXT NOT NULL,
  closed_at TEXT
) STRICT;
CREATE INDEX goal_of_practitioner ON goal(practitioner_id, closed_at);

-- What happened beside the measuring: drawn into the charts.
CREATE TABLE annotation (
  id INTEGER PRIMARY KEY,
  practitioner_id INTEGER NOT NULL REFERENCES practitioner(id),
  on_date TEXT NOT NULL,
  kind TEXT NOT NULL CHECK (kind IN ('injury', 'holiday', 'plan', 'note')),
  text TEXT NOT NULL,
  created_at TEXT NOT NULL
) STRICT;
CREATE INDEX annotation_of_practitioner ON annotation(practitioner_id, on_date);

-- Derived from markings whenever one changes, so that lists need not read whole histories.
CREATE TABLE pose_digest (
  practitioner_id INTEGER NOT NULL REFERENCES practitioner(id),
  pose TEXT NOT NULL,
  body TEXT NOT NULL,
  news TEXT NOT NULL,
  news_on TEXT,
  retest_on TEXT,
  updated_at TEXT NOT NULL,
  PRIMARY KEY (practitioner_id, pose)
) STRICT;

-- What repeated trials of a person say of the error, summed over the coach's people.
CREATE TABLE repeatability (
  practitioner_id INTEGER NOT NULL REFERENCES practitioner(id),
  pose TEXT NOT NULL,
  family TEXT NOT NULL,
  mode TEXT NOT NULL,
  squares REAL NOT NULL,
  df REAL NOT NULL,
  PRIMARY KEY (practitioner_id, pose, family, mode)
) STRICT;
CREATE INDEX repeatability_of_pose ON repeatability(pose, family, mode);
