-- Pain as it is charted, what was answered of it; answers with side, date and stage; a coach's hand.
ALTER TABLE practice_pain ADD COLUMN level INTEGER CHECK (level IS NULL OR level BETWEEN 0 AND 10);
ALTER TABLE practice_pain ADD COLUMN spreads INTEGER NOT NULL DEFAULT 0 CHECK (spreads IN (0, 1));
ALTER TABLE practice_pain ADD COLUMN after TEXT NOT NULL DEFAULT ''
  CHECK (after IN ('', 'gone', 'hours', 'next_day', 'swelling', 'locking', 'giving_way'));
-- What was told of each answer (question: answer), and the signs that stop every plan.
ALTER TABLE screening ADD COLUMN details TEXT NOT NULL DEFAULT '{}';
ALTER TABLE screening ADD COLUMN flags TEXT NOT NULL DEFAULT '[]';
-- Asked whether a place is quiet; or a clinician has seen it and lets it go on.
CREATE TABLE pain_answer (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  practitioner_id INTEGER NOT NULL REFERENCES practitioner(id),
  place TEXT NOT NULL, side TEXT NOT NULL CHECK (side IN ('', 'left', 'right')),
  answer TEXT NOT NULL CHECK (answer IN ('quiet', 'not_yet', 'seen')),
  by_whom TEXT NOT NULL DEFAULT '', said_at TEXT NOT NULL) STRICT;
CREATE INDEX pain_answer_of ON pain_answer(practitioner_id, id);
-- A coach who disagrees: what is opened or shut by hand, with the reason.
CREATE TABLE overrule (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  practitioner_id INTEGER NOT NULL REFERENCES practitioner(id),
  what TEXT NOT NULL CHECK (what IN ('open_drill', 'open_gate', 'shut_gate')),
  name TEXT NOT NULL, reason TEXT NOT NULL, said_at TEXT NOT NULL, ended_at TEXT) STRICT;
CREATE INDEX overrule_of ON overrule(practitioner_id, id);
-- A show, grading or competition: the week before it is softer.
CREATE TABLE coming_event (
  practitioner_id INTEGER PRIMARY KEY REFERENCES practitioner(id),
  on_date TEXT NOT NULL, what TEXT NOT NULL) STRICT;
