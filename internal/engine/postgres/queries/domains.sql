-- Domains.
SELECT
    t.oid,
    t.typarray AS array,
    format('%I.%I', n.nspname, t.typname) AS name,
    format_type(t.typbasetype, t.typtypmod) AS base,
    CASE WHEN t.typcollation <> b.typcollation AND t.typcollation <> 0 THEN ' COLLATE '
        || {{collation "t.typcollation"}} ELSE '' END || coalesce(' DEFAULT '
        || coalesce(pg_get_expr(t.typdefaultbin, 0), quote_literal(t.typdefault)), '')
        || CASE WHEN t.typnotnull THEN coalesce((SELECT format(' CONSTRAINT %I', k.conname) FROM pg_constraint k
        WHERE k.contype = 'n' AND k.contypid = t.oid), '') || ' NOT NULL' ELSE '' END AS rest
FROM pg_type t
    JOIN pg_namespace n ON n.oid = t.typnamespace
    JOIN pg_type b ON b.oid = t.typbasetype
WHERE t.typtype = 'd'
    AND {{ours}}
    AND {{own "pg_type" "t.oid"}}
