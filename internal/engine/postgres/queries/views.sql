-- Views and materialised views.
SELECT
    c.oid,
    c.relkind::text AS kind,
    c.reltype AS row_type,
    coalesce((SELECT t.typarray FROM pg_type t WHERE t.oid = c.reltype), 0) AS array,
    format('%I.%I', n.nspname, c.relname) AS name,
    concat_ws(', ', {{settable "c.reloptions"}}, (SELECT string_agg('toast.' || o, ', ')
        FROM pg_class x, unnest(x.reloptions) o WHERE x.oid = c.reltoastrelid AND o !~ '^pg_')) AS options,
    pg_get_viewdef(c.oid) AS def,
    c.relispopulated AS full,
    coalesce((SELECT string_agg(format('ALTER VIEW %I.%I ALTER COLUMN %I SET DEFAULT %s;', n.nspname, c.relname,
        a.attname, pg_get_expr(d.adbin, d.adrelid)), E'\n' ORDER BY a.attnum)
        || E'\n' FROM pg_attrdef d JOIN pg_attribute a ON a.attrelid = d.adrelid AND a.attnum = d.adnum
        WHERE d.adrelid = c.oid), '') AS defaults,
    coalesce((SELECT quote_ident(a.amname) FROM pg_am a WHERE a.oid = c.relam
        AND a.amname <> 'heap'), '') AS method,
    coalesce((SELECT quote_ident(s.spcname) FROM pg_tablespace s WHERE s.oid = c.reltablespace), '') AS tablespace,
    coalesce((SELECT string_agg(format('NULL::%s', format_type(a.atttypid, a.atttypmod))
        || CASE WHEN a.attcollation <> 0 AND a.attcollation <> t.typcollation THEN ' COLLATE '
        || {{collation "a.attcollation"}} ELSE '' END || format(' AS %I', a.attname), ', ' ORDER BY a.attnum)
        FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid WHERE a.attrelid = c.oid
        AND a.attnum > 0), '') AS outline
FROM pg_class c
    JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('v', 'm')
    AND {{ours}}
    AND {{own "pg_class" "c.oid"}}
