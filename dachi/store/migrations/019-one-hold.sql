-- Two photographs of one hold, by two phones: the place of the other in the same assessment
-- ("pose|side|mode|number"), so that it means the same wherever the record is moved to.
ALTER TABLE trial ADD COLUMN held_with TEXT;
