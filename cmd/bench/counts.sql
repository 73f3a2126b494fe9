-- On how many resources is a subject (?1) allowed each operation, and on how many does it depend? One row an operation.
-- Places are gone down step by step.
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
  UNION SELECT t.id, e.node FROM mine JOIN grant_tag t USING (id) JOIN tag e ON e.key = t.key AND e.value = t.value
  UNION SELECT g.id, r.node FROM mine JOIN grant_prefix g USING (id) JOIN resource r ON r.address >= g.prefix AND r.address < g.after
),
given AS MATERIALIZED (
  SELECT v.operation, c.node, MAX(CASE
      WHEN m.same IS NULL THEN m.holds
      WHEN EXISTS (SELECT 1 FROM tag e JOIN subject_tag s ON s.subject = ?1 AND s.key = e.key AND s.value = e.value
                   WHERE e.node = c.node AND e.key = m.same) THEN m.holds
      ELSE 0 END) AS holds
  FROM covered c JOIN mine m USING (id)
  JOIN role_operation o ON o.role = m.role
  JOIN resource r ON r.node = c.node
  JOIN valid v ON v.class = r.class AND v.operation = o.operation
  GROUP BY v.operation, c.node
)
SELECT g.operation,
  SUM(g.holds = 2 AND COALESCE(d.holds, 0) = 0) AS allowed,
  SUM(CASE WHEN COALESCE(d.holds, 0) = 2 THEN 0 WHEN g.holds = 2 THEN COALESCE(d.holds, 0) = 1 ELSE g.holds = 1 END) AS depends
FROM given g LEFT JOIN denied d ON d.operation = g.operation AND d.node = g.node
WHERE (SELECT active FROM subject WHERE id = ?1) = 1
GROUP BY g.operation;
