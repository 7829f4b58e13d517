-- Conversions.
SELECT
    c.oid,
    format('%I.%I', n.nspname, c.conname) AS name,
    format('CREATE%s CONVERSION %I.%I FOR %L TO %L FROM %s', CASE WHEN c.condefault THEN ' DEFAULT'
        ELSE '' END, n.nspname, c.conname, pg_encoding_to_char(c.conforencoding),
        pg_encoding_to_char(c.contoencoding), c.conproc) AS sql
FROM pg_conversion c
    JOIN pg_namespace n ON n.oid = c.connamespace
WHERE {{ours}}
    AND {{own "pg_conversion" "c.oid"}}
