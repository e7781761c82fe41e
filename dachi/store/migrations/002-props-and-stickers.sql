-- Height of what supports the person in a trial, where it matters for comparing.
ALTER TABLE trial ADD COLUMN prop_cm REAL CHECK (prop_cm IS NULL OR prop_cm BETWEEN 0 AND 150);

-- The studio's sticker colour, picked once on a photograph: hue 0..360, saturation and value 0..1.
ALTER TABLE coach ADD COLUMN sticker_colour TEXT;

-- How the stand was asked to be set up: another set-up is another position.
ALTER TABLE camera_position ADD COLUMN setup TEXT NOT NULL DEFAULT '';
