-- Types that functions make, and shells that nobody filled.
{{define "subscript"}}{{if since 14}}{{function "t.typsubscript"}}{{else}}''{{end}}{{end}}
SELECT
    t.oid,
    t.typarray AS array,
    t.typisdefined AS defined,
    format('%I.%I', n.nspname, t.typname) AS name,
    {{function "t.typinput"}} AS in,
    {{function "t.typoutput"}} AS out,
    {{function "t.typreceive"}} AS receive,
    {{function "t.typsend"}} AS send,
    {{function "t.typmodin"}} AS mod_in,
    {{function "t.typmodout"}} AS mod_out,
    {{function "t.typanalyze"}} AS analyze,
    {{template "subscript"}} AS subscript,
    t.typlen AS length,
    t.typbyval AS by_value,
    t.typalign::text AS align,
    t.typstorage::text AS storage,
    t.typcategory::text AS category,
    t.typispreferred AS preferred,
    coalesce(quote_literal(t.typdefault), '') AS def,
    CASE WHEN t.typelem <> 0 THEN format_type(t.typelem, NULL) ELSE '' END AS elem,
    t.typdelim::text AS delim,
    t.typcollation <> 0 AS collatable
FROM pg_type t
    JOIN pg_namespace n ON n.oid = t.typnamespace
WHERE (t.typtype = 'b' AND NOT EXISTS (SELECT FROM pg_type e WHERE e.typarray = t.oid) OR t.typtype = 'p' AND
    NOT t.typisdefined)
    AND {{ours}}
    AND {{own "pg_type" "t.oid"}}
