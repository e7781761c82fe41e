-- Who marked: another hand is another habit.
ALTER TABLE marking ADD COLUMN marker TEXT NOT NULL DEFAULT '';
UPDATE marking SET marker = coalesce((
  SELECT c.name FROM trial t JOIN assessment a ON a.id = t.assessment_id
  JOIN practitioner p ON p.id = a.practitioner_id JOIN coach c ON c.id = p.coach_id
  WHERE t.id = marking.trial_id), '');
