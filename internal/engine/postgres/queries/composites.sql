-- Composite types.
SELECT
    t.oid,
    t.typarray AS array,
    c.oid AS class,
    format('%I.%I', n.nspname, t.typname) AS name,
    coalesce((SELECT string_agg(format('%I %s', a.attname, format_type(a.atttypid, a.atttypmod))
        || CASE WHEN a.attcollation <> b.typcollation AND a.attcollation <> 0 THEN ' COLLATE '
        || {{collation "a.attcollation"}} ELSE '' END, ', ' ORDER BY a.attnum) FROM pg_attribute a
        JOIN pg_type b ON b.oid = a.atttypid WHERE a.attrelid = c.oid AND a.attnum > 0
        AND NOT a.attisdropped), '') AS columns
FROM pg_type t
    JOIN pg_class c ON c.oid = t.typrelid
    JOIN pg_namespace n ON n.oid = t.typnamespace
WHERE c.relkind = 'c'
    AND {{ours}}
    AND {{own "pg_type" "t.oid"}}
