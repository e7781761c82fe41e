-- What is derived says what it was derived from: a fingerprint of rules, constants and data.
-- Nothing derived before this knew; all of it is stale and is derived again.
ALTER TABLE reading RENAME COLUMN catalogue_version TO made_from;
ALTER TABLE pose_digest RENAME TO pose_summary;
ALTER TABLE pose_summary ADD COLUMN made_from TEXT NOT NULL DEFAULT '';
DELETE FROM week_plan;
