-- Links that end by themselves, consents that end, and several coaches on one copy: the owner
-- invites, lets a coach choose a new password, closes and opens accounts.
ALTER TABLE private_link ADD COLUMN used_at TEXT;
ALTER TABLE consent ADD COLUMN until TEXT;
ALTER TABLE coach ADD COLUMN owner INTEGER NOT NULL DEFAULT 0;
ALTER TABLE coach ADD COLUMN closed_at TEXT;
UPDATE coach SET owner = 1 WHERE id = (SELECT min(id) FROM coach);
CREATE TABLE invitation (
  id INTEGER PRIMARY KEY,
  token_sha256 TEXT NOT NULL UNIQUE,
  coach_id INTEGER NOT NULL REFERENCES coach(id),
  name TEXT NOT NULL,
  for_coach INTEGER REFERENCES coach(id),
  created_at TEXT NOT NULL,
  expires_at TEXT NOT NULL,
  used_at TEXT
);
