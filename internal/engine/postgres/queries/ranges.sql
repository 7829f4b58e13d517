-- Range types, with their multirange types.
{{define "multi"}}{{if since 14}}g.rngmultitypid{{else}}0::oid{{end}}{{end}}
{{define "multi name"}}{{if since 14}}(SELECT format('%I.%I', mn.nspname, m.typname)
    FROM pg_type m JOIN pg_namespace mn ON mn.oid = m.typnamespace
        WHERE m.oid = g.rngmultitypid){{else}}''{{end}}{{end}}
SELECT
    t.oid,
    t.typarray AS array,
    {{template "multi"}} AS multi,
    coalesce((SELECT m.typarray FROM pg_type m WHERE m.oid = {{template "multi"}}), 0) AS multi_array,
    format('%I.%I', n.nspname, t.typname) AS name,
    format_type(g.rngsubtype, NULL) AS sub,
    format('%I.%I', onsp.nspname, o.opcname) AS class,
    CASE WHEN g.rngcollation <> 0 THEN {{collation "g.rngcollation"}} ELSE '' END AS collation,
    CASE WHEN g.rngcanonical::oid <> 0 THEN g.rngcanonical::text ELSE '' END AS canonical,
    CASE WHEN g.rngsubdiff::oid <> 0 THEN g.rngsubdiff::text ELSE '' END AS diff,
    {{template "multi name"}} AS multi_name
FROM pg_range g
    JOIN pg_type t ON t.oid = g.rngtypid
    JOIN pg_namespace n ON n.oid = t.typnamespace
    JOIN pg_opclass o ON o.oid = g.rngsubopc
    JOIN pg_namespace onsp ON onsp.oid = o.opcnamespace
WHERE {{ours}}
    AND {{own "pg_type" "t.oid"}}
