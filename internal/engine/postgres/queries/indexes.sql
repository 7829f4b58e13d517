-- Indexes, also those behind keys.
SELECT
    i.indexrelid AS oid,
    i.indrelid AS table,
    format('%I.%I', n.nspname, c.relname) AS name,
    i.indisunique AS unique,
    i.indisvalid OR c.relkind = 'I' AS valid,
    i.indisreplident AS identity,
    i.indisclustered AS clustered,
    pg_get_indexdef(i.indexrelid) AS definition,
    quote_ident(c.relname) AS short,
    EXISTS (SELECT FROM pg_constraint k WHERE k.conindid = i.indexrelid
        AND k.contype IN ('p', 'u', 'x')) AS constraint,
    coalesce((SELECT quote_ident(s.spcname) FROM pg_tablespace s WHERE s.oid = c.reltablespace), '') AS tablespace,
    coalesce((SELECT string_agg(format(E'ALTER INDEX %I.%I ALTER COLUMN %s SET STATISTICS %s;\n', n.nspname,
        c.relname, a.attnum, a.attstattarget), '' ORDER BY a.attnum) FROM pg_attribute a WHERE a.attrelid = c.oid
        AND a.attstattarget >= 0), '') AS statistics,
    format('%I.%I', tn.nspname, t.relname) AS on,
    c.relkind = 'i' AS plain
FROM pg_index i
    JOIN pg_class c ON c.oid = i.indexrelid
    JOIN pg_namespace n ON n.oid = c.relnamespace
    JOIN pg_class t ON t.oid = i.indrelid
    JOIN pg_namespace tn ON tn.oid = t.relnamespace
WHERE t.relkind IN ('r', 'p', 'm')
    AND t.relpersistence <> 't'
    AND {{ours}}
    AND {{own "pg_class" "c.oid"}}
    AND {{later "c" "pg_class" "t.oid"}}
