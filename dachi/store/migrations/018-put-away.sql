-- How long a coach keeps photographs that were deleted, days, before they go for good.
ALTER TABLE coach ADD COLUMN put_away_days INTEGER NOT NULL DEFAULT 30;
