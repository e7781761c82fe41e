-- The consent that stands: the one entered last, unless another was withdrawn after it was given.
CREATE VIEW consent_now AS
SELECT c.practitioner_id, c.given_on, c.scope, c.guardian, c.faces, c.until,
  coalesce(c.withdrawn_on, (SELECT max(o.withdrawn_on) FROM consent o
    WHERE o.practitioner_id = c.practitioner_id
    AND (o.withdrawn_on > c.given_on OR (o.withdrawn_on = c.given_on AND o.id > c.id))
  )) AS withdrawn_on
FROM consent c
WHERE c.id = (SELECT max(n.id) FROM consent n WHERE n.practitioner_id = c.practitioner_id);
