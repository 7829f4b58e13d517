-- Leaves of trees whose rows may land elsewhere in a new database, with the root.
WITH RECURSIVE key AS (
    SELECT p.partrelid, p.partstrat, coalesce(a.atttypid, 0) AS typ, p.partcollation[k.n - 1] AS coll,
        p.partclass[k.n - 1] AS class
    FROM pg_partitioned_table p CROSS JOIN LATERAL unnest(p.partattrs::int2[]) WITH ORDINALITY k(num, n)
        LEFT JOIN pg_attribute a ON a.attrelid = p.partrelid AND a.attnum = k.num),
    shaky AS (
    SELECT DISTINCT k.partrelid FROM key k LEFT JOIN pg_type t ON t.oid = k.typ
        LEFT JOIN pg_collation c ON c.oid = k.coll
    WHERE k.partstrat = 'h' AND (t.typtype IS DISTINCT FROM 'b' OR t.typelem <> 0 AND t.typlen = -1
        OR t.oid >= 16384 OR k.class >= 16384 OR t.typname LIKE 'reg%' OR k.coll <> 0 AND NOT c.collisdeterministic)
    OR k.partstrat = 'r' AND k.coll <> 0 AND coalesce(c.collname NOT IN ('C', 'POSIX', 'ucs_basic'), true)
    AND NOT (k.coll = 100 AND (SELECT datcollate IN ('C', 'POSIX') FROM pg_database
        WHERE datname = current_database()))),
    up AS (
    SELECT oid AS rel, oid AS at FROM pg_class WHERE relispartition OR relkind = 'p'
    UNION ALL SELECT u.rel, i.inhparent FROM up u JOIN pg_inherits i ON i.inhrelid = u.at),
    root AS (SELECT rel, at AS root FROM up WHERE NOT EXISTS (SELECT FROM pg_inherits i WHERE i.inhrelid = up.at))
SELECT
    r.rel AS leaf,
    r.root
FROM root r
    JOIN pg_class c ON c.oid = r.rel
WHERE c.relkind = 'r'
    AND c.relispartition
    AND r.root IN (SELECT s.root FROM root s JOIN shaky k ON k.partrelid = s.rel)
