-- Every id is given once; readings know what they were made from; what means something is a kind.
-- (Foreign keys are off while tables are made anew, and checked before this is kept.)

CREATE TABLE new_coach (
  id INTEGER PRIMARY KEY AUTOINCREMENT, email TEXT NOT NULL UNIQUE COLLATE
  NOCASE, name TEXT NOT NULL, password_hash TEXT NOT NULL, session_stamp TEXT NOT NULL, created_at
  TEXT NOT NULL, sticker_colour TEXT, usual_marked TEXT NOT NULL DEFAULT 'eye', owner INTEGER NOT
  NULL DEFAULT 0, closed_at TEXT, put_away_days INTEGER NOT NULL DEFAULT 30) STRICT;
INSERT INTO new_coach SELECT * FROM coach;
DROP TABLE coach;
ALTER TABLE new_coach RENAME TO coach;

CREATE TABLE new_practitioner (
  id INTEGER PRIMARY KEY AUTOINCREMENT, coach_id INTEGER NOT NULL
  REFERENCES coach(id), call_name TEXT NOT NULL, birth_year INTEGER, height_cm REAL, thigh_cm
  REAL, shin_cm REAL, half_width_cm REAL NOT NULL DEFAULT 16, notes TEXT NOT NULL DEFAULT '',
  created_at TEXT NOT NULL, next_visit_at TEXT, dominant_side TEXT NOT NULL DEFAULT '' CHECK
  (dominant_side IN ('', 'left', 'right')), props TEXT NOT NULL DEFAULT '["mat", "wall"]', schools
  TEXT NOT NULL DEFAULT '{}', breath_s REAL NOT NULL DEFAULT 8 CHECK (breath_s BETWEEN 3 AND 30),
  email TEXT NOT NULL DEFAULT '', uid TEXT NOT NULL DEFAULT '', comes_for TEXT NOT NULL DEFAULT
  '[]') STRICT;
INSERT INTO new_practitioner SELECT * FROM practitioner;
DROP TABLE practitioner;
ALTER TABLE new_practitioner RENAME TO practitioner;
CREATE INDEX practitioner_of_coach ON practitioner(coach_id, call_name);
CREATE UNIQUE INDEX practitioner_uid ON practitioner(coach_id, uid) WHERE uid <> '';

CREATE TABLE new_assessment (
  id INTEGER PRIMARY KEY AUTOINCREMENT, practitioner_id INTEGER NOT
  NULL REFERENCES practitioner(id), taken_at TEXT NOT NULL, warmth TEXT NOT NULL CHECK (warmth IN
  ('warm', 'cold')), notes TEXT NOT NULL DEFAULT '', once_key TEXT UNIQUE, created_at TEXT NOT
  NULL, revision INTEGER NOT NULL DEFAULT 0, signed_off_at TEXT, still INTEGER NOT NULL DEFAULT
  0) STRICT;
INSERT INTO new_assessment SELECT * FROM assessment;
DROP TABLE assessment;
ALTER TABLE new_assessment RENAME TO assessment;
CREATE INDEX assessment_of_practitioner ON assessment(practitioner_id, taken_at);

CREATE TABLE new_photo (
  id INTEGER PRIMARY KEY AUTOINCREMENT, coach_id INTEGER NOT NULL
  REFERENCES coach(id), sha256 TEXT NOT NULL, source_sha256 TEXT NOT NULL, width INTEGER NOT NULL,
  height INTEGER NOT NULL, focal_35mm REAL, taken_at TEXT, origin TEXT NOT NULL CHECK (origin IN
  ('upload', 'simulated')), truth TEXT, created_at TEXT NOT NULL, cards TEXT, joints TEXT, said
  TEXT, doubtful INTEGER, outline TEXT, glimpsed TEXT, UNIQUE (coach_id, source_sha256)) STRICT;
INSERT INTO new_photo SELECT * FROM photo;
DROP TABLE photo;
ALTER TABLE new_photo RENAME TO photo;

CREATE TABLE new_camera_position (
  id INTEGER PRIMARY KEY AUTOINCREMENT, assessment_id INTEGER NOT
  NULL REFERENCES assessment(id), view TEXT NOT NULL, mat_length_cm REAL NOT NULL DEFAULT 183,
  mat_width_cm REAL NOT NULL DEFAULT 61, created_at TEXT NOT NULL, setup TEXT NOT NULL DEFAULT
  '') STRICT;
INSERT INTO new_camera_position SELECT * FROM camera_position;
DROP TABLE camera_position;
ALTER TABLE new_camera_position RENAME TO camera_position;

CREATE TABLE new_trial (
  id INTEGER PRIMARY KEY AUTOINCREMENT, assessment_id INTEGER NOT NULL
  REFERENCES assessment(id), photo_id INTEGER NOT NULL REFERENCES photo(id), position_id INTEGER
  REFERENCES camera_position(id), pose TEXT NOT NULL, side TEXT NOT NULL CHECK (side IN ('left',
  'right', 'both')), mode TEXT NOT NULL CHECK (mode IN ('active', 'passive')), variant TEXT NOT
  NULL DEFAULT '{}', number INTEGER NOT NULL CHECK (number BETWEEN 1 AND 9), once_key TEXT UNIQUE,
  created_at TEXT NOT NULL, deleted_at TEXT, prop_cm REAL CHECK (prop_cm IS NULL OR prop_cm
  BETWEEN 0 AND 150), marked INTEGER NOT NULL DEFAULT 0, read_from TEXT,
  held_with INTEGER REFERENCES trial(id) ON DELETE SET NULL) STRICT;
-- The other photograph of a hold is named by itself, not by the place it lay in.
INSERT INTO new_trial SELECT t.id, t.assessment_id, t.photo_id, t.position_id, t.pose, t.side,
  t.mode, t.variant, t.number, t.once_key, t.created_at, t.deleted_at, t.prop_cm, t.marked,
  t.read_from, (SELECT o.id FROM trial o WHERE o.assessment_id = t.assessment_id
    AND o.deleted_at IS NULL
    AND o.pose || '|' || o.side || '|' || o.mode || '|' || o.number = t.held_with) FROM trial t;
DROP TABLE trial;
ALTER TABLE new_trial RENAME TO trial;
CREATE UNIQUE INDEX trial_slot ON trial(assessment_id, pose, side, mode, number) WHERE deleted_at
  IS NULL;
CREATE INDEX trial_unmarked ON trial(assessment_id) WHERE marked = 0 AND deleted_at IS NULL;
CREATE INDEX trial_of_pose ON trial(assessment_id, pose);
CREATE INDEX trial_of_position ON trial(position_id);
CREATE INDEX trial_of_photo ON trial(photo_id);

CREATE TABLE new_marking (
  id INTEGER PRIMARY KEY AUTOINCREMENT, trial_id INTEGER NOT NULL
  REFERENCES trial(id), number INTEGER NOT NULL, marks TEXT NOT NULL, mark_sds TEXT NOT NULL
  DEFAULT '{}', level TEXT, corners TEXT, facing TEXT, author TEXT NOT NULL DEFAULT 'hand',
  overrule_reason TEXT NOT NULL DEFAULT '', once_key TEXT UNIQUE, created_at TEXT NOT NULL, marked
  TEXT NOT NULL DEFAULT 'eye', bones TEXT, seen TEXT NOT NULL DEFAULT '[]',
  made_from TEXT NOT NULL DEFAULT '', lent_from INTEGER REFERENCES trial(id) ON DELETE SET NULL, UNIQUE (trial_id,
  number)) STRICT;
INSERT INTO new_marking SELECT *, '', NULL FROM marking;
DROP TABLE marking;
ALTER TABLE new_marking RENAME TO marking;

CREATE TABLE new_annotation (
  id INTEGER PRIMARY KEY AUTOINCREMENT, practitioner_id INTEGER NOT
  NULL REFERENCES practitioner(id), on_date TEXT NOT NULL, kind TEXT NOT NULL CHECK (kind IN
  ('injury', 'holiday', 'plan', 'note')), text TEXT NOT NULL, created_at TEXT NOT NULL) STRICT;
INSERT INTO new_annotation SELECT * FROM annotation;
DROP TABLE annotation;
ALTER TABLE new_annotation RENAME TO annotation;
CREATE INDEX annotation_of_practitioner ON annotation(practitioner_id, on_date);

CREATE TABLE new_assessment_event (
  id INTEGER PRIMARY KEY AUTOINCREMENT, assessment_id INTEGER
  NOT NULL REFERENCES assessment(id), kind TEXT NOT NULL CHECK (kind IN ('signed off',
  'reopened')), reason TEXT NOT NULL DEFAULT '', at TEXT NOT NULL) STRICT;
INSERT INTO new_assessment_event SELECT * FROM assessment_event;
DROP TABLE assessment_event;
ALTER TABLE new_assessment_event RENAME TO assessment_event;
CREATE INDEX event_of_assessment ON assessment_event(assessment_id, id);

CREATE TABLE new_coach_session (
  id INTEGER PRIMARY KEY AUTOINCREMENT, coach_id INTEGER NOT NULL
  REFERENCES coach(id), token_sha256 TEXT NOT NULL UNIQUE, made_at TEXT NOT NULL, agent TEXT NOT
  NULL) STRICT;
INSERT INTO new_coach_session SELECT * FROM coach_session;
DROP TABLE coach_session;
ALTER TABLE new_coach_session RENAME TO coach_session;

CREATE TABLE new_consent (
  id INTEGER PRIMARY KEY AUTOINCREMENT, practitioner_id INTEGER NOT NULL
  REFERENCES practitioner(id), given_on TEXT NOT NULL, scope TEXT NOT NULL CHECK (scope IN
  ('measure', 'show', 'teaching')), guardian TEXT NOT NULL DEFAULT '', withdrawn_on TEXT,
  created_at TEXT NOT NULL, faces INTEGER NOT NULL DEFAULT 0 CHECK (faces IN (0, 1)), until TEXT)
  STRICT;
INSERT INTO new_consent SELECT * FROM consent;
DROP TABLE consent;
ALTER TABLE new_consent RENAME TO consent;
CREATE INDEX consent_of_practitioner ON consent(practitioner_id, id);

CREATE TABLE new_felt (
  id INTEGER PRIMARY KEY AUTOINCREMENT, practitioner_id INTEGER NOT NULL
  REFERENCES practitioner(id), assessment_id INTEGER REFERENCES assessment(id), log_id INTEGER
  REFERENCES practice_log(id), kind TEXT NOT NULL CHECK (kind IN ('tighter', 'catch', 'start',
  'again')), answer TEXT NOT NULL, saved_at TEXT NOT NULL, CHECK (assessment_id IS NOT NULL OR
  log_id IS NOT NULL)) STRICT;
INSERT INTO new_felt SELECT * FROM felt;
DROP TABLE felt;
ALTER TABLE new_felt RENAME TO felt;
CREATE UNIQUE INDEX felt_at_visit ON felt(assessment_id, kind) WHERE assessment_id IS NOT NULL;
CREATE UNIQUE INDEX felt_at_session ON felt(log_id, kind) WHERE log_id IS NOT NULL;
CREATE INDEX felt_of_person ON felt(practitioner_id);

CREATE TABLE new_goal (
  id INTEGER PRIMARY KEY AUTOINCREMENT, practitioner_id INTEGER NOT NULL
  REFERENCES practitioner(id), pose TEXT NOT NULL, family TEXT NOT NULL, side TEXT NOT NULL CHECK
  (side IN ('left', 'right', 'both')), mode TEXT NOT NULL CHECK (mode IN ('active', 'passive')),
  target REAL NOT NULL, due_on TEXT, created_at TEXT NOT NULL, closed_at TEXT) STRICT;
INSERT INTO new_goal SELECT * FROM goal;
DROP TABLE goal;
ALTER TABLE new_goal RENAME TO goal;
CREATE INDEX goal_of_practitioner ON goal(practitioner_id, closed_at);

CREATE TABLE new_happening (
  id INTEGER PRIMARY KEY AUTOINCREMENT, coach_id INTEGER NOT NULL REFERENCES coach(id),
  practitioner_id INTEGER REFERENCES practitioner(id), at TEXT NOT NULL, kind TEXT NOT NULL,
  detail TEXT NOT NULL DEFAULT '') STRICT;
INSERT INTO new_happening SELECT id, coach_id, practitioner_id, at, 'other', what FROM happening;
DROP TABLE happening;
ALTER TABLE new_happening RENAME TO happening;
CREATE INDEX happening_of_coach ON happening(coach_id, id);

CREATE TABLE new_invitation (
  id INTEGER PRIMARY KEY AUTOINCREMENT, token_sha256 TEXT NOT NULL
  UNIQUE, coach_id INTEGER NOT NULL REFERENCES coach(id), name TEXT NOT NULL, for_coach INTEGER
  REFERENCES coach(id), created_at TEXT NOT NULL, expires_at TEXT NOT NULL, used_at TEXT) STRICT;
INSERT INTO new_invitation SELECT * FROM invitation;
DROP TABLE invitation;
ALTER TABLE new_invitation RENAME TO invitation;

CREATE TABLE new_practice_log (
  id INTEGER PRIMARY KEY AUTOINCREMENT, practitioner_id INTEGER NOT
  NULL REFERENCES practitioner(id), once_key TEXT NOT NULL, started_at TEXT NOT NULL, seconds REAL
  NOT NULL CHECK (seconds BETWEEN 0 AND 86400), felt TEXT NOT NULL CHECK (felt IN ('easy',
  'right', 'hard')), finished INTEGER NOT NULL CHECK (finished IN (0, 1)), done TEXT NOT NULL,
  notes TEXT NOT NULL DEFAULT '', soreness INTEGER CHECK (soreness IS NULL OR soreness BETWEEN 0
  AND 10), created_at TEXT NOT NULL, removed_at TEXT, UNIQUE (practitioner_id, once_key)) STRICT;
INSERT INTO new_practice_log SELECT * FROM practice_log;
DROP TABLE practice_log;
ALTER TABLE new_practice_log RENAME TO practice_log;
CREATE INDEX log_of_practitioner ON practice_log(practitioner_id, started_at);

CREATE TABLE new_proposal (
  id INTEGER PRIMARY KEY AUTOINCREMENT, practitioner_id INTEGER NOT NULL REFERENCES
  practitioner(id), kind TEXT NOT NULL, why TEXT NOT NULL, subject TEXT NOT NULL, about TEXT NOT
  NULL DEFAULT '{}', change TEXT NOT NULL, made_at TEXT NOT NULL, decided_at TEXT, accepted INTEGER
  CHECK (accepted IN (0, 1))) STRICT;
-- Open ones are made again; what was decided keeps the words it was decided by.
INSERT INTO new_proposal SELECT id, practitioner_id, kind, 'earlier', subject,
  json_object('text', text, 'reason', reason), change, made_at, decided_at, accepted FROM proposal
  WHERE decided_at IS NOT NULL;
DROP TABLE proposal;
ALTER TABLE new_proposal RENAME TO proposal;
CREATE INDEX proposal_of_practitioner ON proposal(practitioner_id, decided_at);

CREATE TABLE new_remark (
  id INTEGER PRIMARY KEY AUTOINCREMENT, trial_id INTEGER NOT NULL
  REFERENCES trial(id), by_whom TEXT NOT NULL, marks TEXT NOT NULL, readings TEXT NOT NULL, first
  TEXT NOT NULL, saved_at TEXT NOT NULL) STRICT;
INSERT INTO new_remark SELECT * FROM remark;
DROP TABLE remark;
ALTER TABLE new_remark RENAME TO remark;
CREATE INDEX remark_of_trial ON remark(trial_id);

CREATE TABLE new_screening (
  id INTEGER PRIMARY KEY AUTOINCREMENT, practitioner_id INTEGER NOT
  NULL REFERENCES practitioner(id), answered_on TEXT NOT NULL, yes TEXT NOT NULL, cleared_by TEXT
  NOT NULL DEFAULT '', cleared_on TEXT, created_at TEXT NOT NULL, allowed TEXT NOT NULL DEFAULT
  '[]') STRICT;
INSERT INTO new_screening SELECT * FROM screening;
DROP TABLE screening;
ALTER TABLE new_screening RENAME TO screening;
CREATE INDEX screening_of_practitioner ON screening(practitioner_id, id);

CREATE TABLE new_week_plan (
  id INTEGER PRIMARY KEY AUTOINCREMENT, practitioner_id INTEGER NOT
  NULL REFERENCES practitioner(id), digest TEXT NOT NULL, body TEXT NOT NULL, made_at TEXT NOT
  NULL) STRICT;
INSERT INTO new_week_plan SELECT * FROM week_plan;
DROP TABLE week_plan;
ALTER TABLE new_week_plan RENAME TO week_plan;
CREATE INDEX plan_of_practitioner ON week_plan(practitioner_id, id);

ALTER TABLE reading DROP COLUMN made_from;

-- Places of pain by what they are, not by their words.
CREATE TEMP TABLE said (words TEXT PRIMARY KEY, place TEXT);
INSERT INTO said VALUES ('front of the hip', 'hip_front'), ('side of the hip', 'hip_side'),
  ('back of the hip', 'hip_back'), ('left hip', 'left_hip'), ('right hip', 'right_hip'),
  ('groin', 'groin'), ('sit bone', 'sit_bone'), ('back of the thigh', 'thigh_back'),
  ('back of the left thigh', 'left_thigh_back'), ('back of the right thigh', 'right_thigh_back'),
  ('front of the thigh', 'thigh_front'), ('ankle or foot', 'ankle_foot'),
  ('low back', 'low_back'), ('wrist', 'wrist'), ('left knee', 'left_knee'),
  ('right knee', 'right_knee'), ('left knee, front, the kneecap', 'left_knee_front'),
  ('left knee, inner side', 'left_knee_inner'), ('left knee, outer side', 'left_knee_outer'),
  ('left knee, behind', 'left_knee_back'), ('right knee, front, the kneecap', 'right_knee_front'),
  ('right knee, inner side', 'right_knee_inner'), ('right knee, outer side', 'right_knee_outer'),
  ('right knee, behind', 'right_knee_back');
UPDATE practice_pain SET place = coalesce((SELECT s.place FROM said s WHERE s.words = practice_pain.place),
  'elsewhere');
UPDATE assessment_state SET pain = (SELECT json_group_object(k, v) FROM
  (SELECT coalesce((SELECT s.place FROM said s WHERE s.words = e.key), 'elsewhere') AS k,
    max(e.value) AS v FROM json_each(pain) e GROUP BY 1)) WHERE pain <> '{}';
DROP TABLE said;

CREATE INDEX position_of_assessment ON camera_position(assessment_id);
CREATE INDEX phone_of_assessment ON phone_link(assessment_id);
CREATE INDEX tray_of_photo ON tray(photo_id);
CREATE INDEX session_of_coach ON coach_session(coach_id);
CREATE INDEX happening_of_person ON happening(practitioner_id);
CREATE INDEX invitation_of_coach ON invitation(coach_id);
CREATE INDEX invitation_for_coach ON invitation(for_coach);
CREATE INDEX trial_held_with ON trial(held_with) WHERE held_with IS NOT NULL;
CREATE INDEX marking_lent_from ON marking(lent_from) WHERE lent_from IS NOT NULL;
CREATE INDEX photo_by_hash ON photo(sha256);
CREATE INDEX photo_unseen ON photo(coach_id) WHERE joints IS NULL AND truth IS NULL;
