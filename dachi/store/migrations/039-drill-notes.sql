-- What a coach says to one person of one drill: "your left: towel under the knee".
CREATE TABLE drill_note (
  practitioner_id INTEGER NOT NULL REFERENCES practitioner(id),
  drill TEXT NOT NULL, text TEXT NOT NULL, said_at TEXT NOT NULL,
  PRIMARY KEY (practitioner_id, drill)) STRICT;
