-- Configuration tables of extensions, with the condition on their rows, and the sequences that number them, be they
-- named by the extension or owned by such a table.
SELECT
    c.oid,
    coalesce(e.extcondition[t.n], '') AS condition,
    format('%I.%I', n.nspname, c.relname) AS name,
    c.relkind = 'S' AS sequence,
    c.relhastriggers AS triggers
FROM pg_extension e, unnest(e.extconfig) WITH ORDINALITY t(oid, n)
    JOIN pg_class c ON c.oid = t.oid
    JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'S')
UNION SELECT
    c.oid,
    '',
    format('%I.%I', n.nspname, c.relname),
    true,
    false
FROM pg_extension e, unnest(e.extconfig) t(oid)
    JOIN pg_depend d ON d.refclassid = 'pg_class'::regclass AND d.refobjid = t.oid AND d.deptype IN ('a', 'i')
        AND d.classid = 'pg_class'::regclass
    JOIN pg_class c ON c.oid = d.objid
    JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind = 'S'
ORDER BY 3
