-- How marks were set decides what they say of the joint beneath: by eye, felt for, stickers put on
-- in the pose or while standing, or joint centres. Simulated pictures are marked at their joints.
ALTER TABLE marking ADD COLUMN marked TEXT NOT NULL DEFAULT 'eye';
UPDATE marking SET marked = 'joint' WHERE trial_id IN
  (SELECT t.id FROM trial t JOIN photo p ON p.id = t.photo_id WHERE p.truth IS NOT NULL);
-- A studio's usual way.
ALTER TABLE coach ADD COLUMN usual_marked TEXT NOT NULL DEFAULT 'eye';
-- A reading's share in a change between two shots of one person.
ALTER TABLE reading ADD COLUMN sd_change REAL;
