-- The studio's mat is asked for once; null where nobody said.
ALTER TABLE coach ADD COLUMN mat_length_cm REAL CHECK (mat_length_cm BETWEEN 20 AND 1000);
ALTER TABLE coach ADD COLUMN mat_width_cm REAL CHECK (mat_width_cm BETWEEN 20 AND 1000);
