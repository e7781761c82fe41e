-- Readings that came from a table and not from a photograph here: their trial says from where.
ALTER TABLE trial ADD COLUMN read_from TEXT;
