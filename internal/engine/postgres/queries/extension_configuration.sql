-- Configuration tables of extensions, with the condition on their rows.
SELECT
    t.oid,
    coalesce(e.extcondition[t.n], '') AS condition,
    format('%I.%I', n.nspname, c.relname) AS name,
    c.relkind = 'S' AS sequence,
    c.relhastriggers AS triggers
FROM pg_extension e, unnest(e.extconfig) WITH ORDINALITY t(oid, n)
    JOIN pg_class c ON c.oid = t.oid
    JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'S')
