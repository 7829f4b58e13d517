-- Configuration tables of extensions, with the condition on their rows.
SELECT
    t.oid,
    coalesce(e.extcondition[t.n], '') AS condition
FROM pg_extension e, unnest(e.extconfig) WITH ORDINALITY t(oid, n)
    JOIN pg_class c ON c.oid = t.oid
WHERE c.relkind IN ('r', 'p')
