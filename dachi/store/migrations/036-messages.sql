-- A few words from the practitioner to the coach and back.
CREATE TABLE message (
  id INTEGER PRIMARY KEY AUTOINCREMENT, practitioner_id INTEGER NOT NULL REFERENCES
  practitioner(id), by_whom TEXT NOT NULL CHECK (by_whom IN ('coach', 'practitioner')), text TEXT
  NOT NULL, sent_at TEXT NOT NULL, read_at TEXT) STRICT;
CREATE INDEX message_of_practitioner ON message(practitioner_id, sent_at);
