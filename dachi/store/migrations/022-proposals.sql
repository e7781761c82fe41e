-- Joints a body-landmark network saw in a photograph: {"left.knee": [x, y], ...}; NULL: not looked at.
ALTER TABLE photo ADD COLUMN joints TEXT;
