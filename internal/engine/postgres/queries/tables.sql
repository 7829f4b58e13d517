-- Tables: ordinary, partitioned and foreign.
-- Before version 14 a range of blocks reads the whole table.
{{define "blocks"}}{{if since 14}}CASE WHEN c.relkind = 'r' AND c.relam = 2
        THEN pg_relation_size(c.oid) / current_setting('block_size')::bigint ELSE 0 END{{else}}0{{end}}{{end}}
SELECT
    c.oid,
    c.relkind::text AS kind,
    c.reltype AS row_type,
    n.nspname::text AS schema,
    c.relname::text AS name,
    format('%I.%I', n.nspname, c.relname) AS id,
    c.relpersistence = 'u' AS unlogged,
    concat_ws(', ', {{settable "c.reloptions"}}, (SELECT string_agg('toast.' || o, ', ')
        FROM pg_class x, unnest(x.reloptions) o WHERE x.oid = c.reltoastrelid AND o !~ '^pg_')) AS options,
    c.relreplident::text AS identity,
    coalesce(pg_table_size(c.oid), 0) AS bytes,
    CASE WHEN c.reltoastrelid <> 0 THEN coalesce(pg_relation_size(c.reltoastrelid), 0) ELSE 0 END AS toasted,
    {{template "blocks"}} AS blocks,
    c.reltuples::bigint AS rows,
    coalesce((SELECT t.typarray FROM pg_type t WHERE t.oid = c.reltype), 0) AS array,
    coalesce((SELECT quote_ident(a.amname) FROM pg_am a WHERE a.oid = c.relam
        AND a.amname <> 'heap'), '') AS method,
    coalesce((SELECT quote_ident(s.spcname) FROM pg_tablespace s WHERE s.oid = c.reltablespace), '') AS tablespace,
    CASE WHEN c.reloftype <> 0 THEN format_type(c.reloftype, NULL) ELSE '' END AS typed,
    CASE WHEN c.relkind = 'p' THEN pg_get_partkeydef(c.oid) ELSE '' END AS key,
    CASE WHEN c.relispartition THEN pg_get_expr(c.relpartbound, c.oid) ELSE '' END AS bound,
    coalesce((SELECT format(' SERVER %I', s.srvname) || {{options "f.ftoptions"}} FROM pg_foreign_table f
        JOIN pg_foreign_server s ON s.oid = f.ftserver WHERE f.ftrelid = c.oid), '') AS server,
    EXISTS (SELECT FROM pg_depend x WHERE x.classid = 'pg_class'::regclass AND x.objid = c.oid
        AND x.deptype = 'e') AS extension
FROM pg_class c
    JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'f')
    AND c.relpersistence <> 't'
    AND {{ours}}
