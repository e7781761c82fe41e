-- A session that was logged by mistake is put away, not destroyed.
ALTER TABLE practice_log ADD COLUMN removed_at TEXT;
