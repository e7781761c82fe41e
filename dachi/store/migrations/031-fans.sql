-- What a reading draws on its photograph, kept with it: a review measures nothing. Fifteen numbers
-- as JSON; empty until the reading is made again.
ALTER TABLE reading ADD COLUMN fan TEXT;
