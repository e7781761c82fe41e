-- A person keeps this name wherever their record is moved to: brought in twice, they are there once.
ALTER TABLE practitioner ADD COLUMN uid TEXT NOT NULL DEFAULT '';
UPDATE practitioner SET uid = lower(hex(randomblob(8)));
CREATE UNIQUE INDEX practitioner_uid ON practitioner(coach_id, uid) WHERE uid <> '';
