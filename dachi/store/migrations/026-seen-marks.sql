-- Marks left where the program saw them (JSON list of ids), whose spreads are in mark_sds.
ALTER TABLE marking ADD COLUMN seen TEXT NOT NULL DEFAULT '[]';
-- How many of a photograph's marks want a look, once it has been looked at.
ALTER TABLE photo ADD COLUMN doubtful INTEGER;
-- The mat's outline where it stands out: {corner: [x, y, sd]}, px; empty: none; NULL: not looked.
ALTER TABLE photo ADD COLUMN outline TEXT;
-- Joints seen roughly while it lay in the tray, px.
ALTER TABLE photo ADD COLUMN glimpsed TEXT;
