-- Whether a trial has a marking, so that what is waiting is found without reading all that is done.
ALTER TABLE trial ADD COLUMN marked INTEGER NOT NULL DEFAULT 0;
UPDATE trial SET marked = 1 WHERE id IN (SELECT trial_id FROM marking);
CREATE INDEX trial_unmarked ON trial(assessment_id) WHERE marked = 0 AND deleted_at IS NULL;
CREATE INDEX trial_of_pose ON trial(assessment_id, pose);
DROP INDEX trial_of_assessment;
CREATE INDEX trial_of_position ON trial(position_id);
CREATE INDEX trial_of_photo ON trial(photo_id);
