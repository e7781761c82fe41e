-- Codes of corner cards found in a photograph: {"1": [[x, y], four of them]}; NULL: never looked for.
ALTER TABLE photo ADD COLUMN cards TEXT;
