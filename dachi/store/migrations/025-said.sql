-- What is wrong with a photograph for its place: [["retake", "sentence"], ...]; NULL: not looked at.
ALTER TABLE photo ADD COLUMN said TEXT;
