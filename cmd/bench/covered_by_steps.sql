-- What the grants to a subject (?1) cover: places are gone down step by step.
WITH RECURSIVE
mine AS MATERIALIZED (SELECT g.id, g.role, g.holds, g.same FROM belongs b JOIN grants g USING (grp) WHERE b.subject = ?1 AND g.holds > 0),
below(id, node) AS (
  SELECT p.id, p.node FROM grant_place p JOIN mine USING (id)
  UNION
  SELECT below.id, r.node FROM below JOIN resource r ON r.parent = below.node
  WHERE NOT EXISTS (SELECT 1 FROM grant_except x WHERE x.id = below.id AND x.node = r.node)
),
covered(id, node) AS (
  SELECT id, node FROM below
