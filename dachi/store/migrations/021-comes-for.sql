-- Poses a person came for, as a JSON list; goals with a value are set once there is one.
ALTER TABLE practitioner ADD COLUMN comes_for TEXT NOT NULL DEFAULT '[]';
