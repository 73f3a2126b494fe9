-- Behind covered_by_steps.sql or covered_by_range.sql: on how many resources is a subject (?1) allowed each operation,
-- and on how many does it depend? One row an operation.
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
