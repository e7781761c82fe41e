-- The day of a pose's newest look, beside the day of the next: Today reads no summaries through.
ALTER TABLE pose_summary ADD COLUMN looked_on TEXT;
UPDATE pose_summary SET looked_on = (
  SELECT max(substr(json_extract(l.value, '$.taken_at'), 1, 10))
  FROM json_each(pose_summary.body) f, json_each(f.value, '$.lines') l
);
