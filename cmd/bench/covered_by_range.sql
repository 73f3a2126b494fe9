-- What the grants to a subject (?1) cover: what stands inside a resource follows it in the order of the tree.
WITH
mine AS MATERIALIZED (SELECT g.id, g.role, g.holds, g.same FROM belongs b JOIN grants g USING (grp) WHERE b.subject = ?1 AND g.holds > 0),
covered(id, node) AS (
  SELECT p.id, r.node FROM mine JOIN grant_place p USING (id) JOIN resource top ON top.node = p.node
    JOIN resource r ON r.node BETWEEN top.node AND top.last
  WHERE NOT EXISTS (SELECT 1 FROM grant_except x JOIN resource out ON out.node = x.node
                    WHERE x.id = p.id AND r.node BETWEEN out.node AND out.last)
