-- Marks left where the program saw them (JSON list of ids), whose spreads are in mark_sds.
ALTER TABLE marking ADD COLUMN seen TEXT NOT NULL DEFAULT '[]';
-- How many of a photograph's marks want a look, once it has been looked at.
ALTER TABLE photo ADD COLUMN doubtful INTEGER;
