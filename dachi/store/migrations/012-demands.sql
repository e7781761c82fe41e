-- Directions of the hip that were cleared, one by one.
ALTER TABLE screening ADD COLUMN allowed TEXT NOT NULL DEFAULT '[]';
