-- Lengths of bones that a marking's body tells: {"thigh": [cm, sd, repeats], ...}; NULL: none, or made before.
ALTER TABLE marking ADD COLUMN bones TEXT;
