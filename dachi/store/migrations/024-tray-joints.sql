-- Joints a body-landmark network saw in a photograph of the tray, before its pose is known; NULL: not looked at.
ALTER TABLE tray ADD COLUMN joints TEXT;
