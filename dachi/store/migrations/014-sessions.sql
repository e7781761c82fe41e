-- Who is signed in where: a session ends when its row goes, whoever copied the cookie.
CREATE TABLE coach_session (
  id INTEGER PRIMARY KEY,
  coach_id INTEGER NOT NULL REFERENCES coach(id),
  token_sha256 TEXT NOT NULL UNIQUE,
  made_at TEXT NOT NULL,
  agent TEXT NOT NULL
) STRICT;

-- What a coach may want to read later. It names nobody; what is about a person goes with them.
CREATE TABLE happening (
  id INTEGER PRIMARY KEY,
  coach_id INTEGER NOT NULL REFERENCES coach(id),
  practitioner_id INTEGER REFERENCES practitioner(id),
  at TEXT NOT NULL,
  what TEXT NOT NULL
) STRICT;
CREATE INDEX happening_of_coach ON happening(coach_id, id);
