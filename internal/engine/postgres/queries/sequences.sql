-- Sequences, with the column that they belong to.
SELECT
    c.oid,
    format('%I.%I', n.nspname, c.relname) AS name,
    c.relpersistence = 'u' AS unlogged,
    format_type(s.seqtypid, NULL) AS type,
    s.seqstart AS start,
    s.seqincrement AS step,
    s.seqmax AS max,
    s.seqmin AS min,
    s.seqcache AS cache,
    s.seqcycle AS cycle,
    coalesce(d.deptype = 'i', false) AS identity,
    coalesce(d.refobjid, 0) AS table,
    coalesce(quote_ident(a.attname), '') AS column,
    coalesce(a.attnum, 0) AS num
FROM pg_class c
    JOIN pg_namespace n ON n.oid = c.relnamespace
    JOIN pg_sequence s ON s.seqrelid = c.oid
    LEFT JOIN pg_depend d ON d.classid = 'pg_class'::regclass AND d.objid = c.oid AND d.objsubid = 0
        AND d.refclassid = 'pg_class'::regclass AND d.refobjsubid > 0 AND d.deptype IN ('a', 'i')
    LEFT JOIN pg_attribute a ON a.attrelid = d.refobjid AND a.attnum = d.refobjsubid
WHERE c.relkind = 'S'
    AND c.relpersistence <> 't'
    AND {{ours}}
    AND {{own "pg_class" "c.oid"}}
ORDER BY 2
