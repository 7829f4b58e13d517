-- Columns, with what CREATE TABLE and ALTER TABLE say of them. Of the options, those that only the server sets
-- (pg_…) are not a user's to write, and others that are not known here are named.
{{define "compression"}}{{if since 14}}a.attcompression::text{{else}}''{{end}}{{end}}
SELECT
    a.attrelid AS relation,
    a.attnum AS num,
    a.attname::text AS name,
    quote_ident(a.attname) AS quoted,
    format_type(a.atttypid, a.atttypmod) AS type,
    CASE coalesce(nullif(t.typbasetype, 0), t.oid) WHEN 'bytea'::regtype THEN 'bytea' WHEN 'text'::regtype THEN 'text'
        WHEN 'varchar'::regtype THEN 'text' WHEN 'bpchar'::regtype THEN 'text' ELSE '' END AS wide,
    CASE WHEN a.attcollation <> t.typcollation AND a.attcollation <> 0 THEN {{collation "a.attcollation"}}
        ELSE '' END AS collation,
    a.attnotnull AS required,
    coalesce(quote_ident(k.conname), '') AS required_name,
    coalesce(k.conislocal, true) AS required_local,
    coalesce(k.coninhcount > 0, true) AS required_inherited,
    coalesce(k.connoinherit, false) AS required_no_inherit,
    NOT coalesce(k.convalidated, true) AS required_unvalidated,
    a.attislocal AS local,
    a.attidentity::text AS identity,
    a.attgenerated::text AS generated,
    coalesce(pg_get_expr(d.adbin, d.adrelid), '') AS default,
    CASE WHEN a.attstorage <> t.typstorage THEN a.attstorage::text ELSE '' END AS storage,
    {{template "compression"}} AS compression,
    coalesce(a.attstattarget::int, -1) AS statistics,
    coalesce((SELECT string_agg(o, ', ') FROM unnest(a.attoptions) o
        WHERE split_part(o, '=', 1) IN ('n_distinct', 'n_distinct_inherited')), '') AS options,
    coalesce((SELECT string_agg(split_part(o, '=', 1), ', ') FROM unnest(a.attoptions) o
        WHERE split_part(o, '=', 1) NOT IN ('n_distinct', 'n_distinct_inherited') AND o !~ '^pg_'), '') AS unknown,
    {{options "a.attfdwoptions"}} AS foreign,
    d.oid IS NOT NULL AS has_default
FROM pg_attribute a
    JOIN pg_class c ON c.oid = a.attrelid
    JOIN pg_namespace n ON n.oid = c.relnamespace
    JOIN pg_type t ON t.oid = a.atttypid
    LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
    LEFT JOIN pg_constraint k ON k.contype = 'n' AND k.conrelid = a.attrelid AND k.conkey[1] = a.attnum
WHERE a.attnum > 0
    AND NOT a.attisdropped
    AND c.relkind IN ('r', 'p', 'f', 'm')
    AND c.relpersistence <> 't'
    AND {{ours}}
ORDER BY a.attrelid, a.attnum
