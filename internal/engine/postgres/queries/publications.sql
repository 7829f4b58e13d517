-- Publications.
{{define "via root"}}{{if since 13}}p.pubviaroot{{else}}false{{end}}{{end}}
{{define "columns and rows"}}{{if since 15 -}}
coalesce((SELECT ' (' || string_agg(quote_ident(a.attname), ', ' ORDER BY a.attnum) || ')'
        FROM pg_attribute a WHERE a.attrelid = x.prrelid AND a.attnum = ANY (x.prattrs::int2[])), '')
    || coalesce(' WHERE (' || pg_get_expr(x.prqual, x.prrelid) || ')', '')
{{- else}}''{{end}}{{end}}
{{define "whole schemas"}}{{if since 15 -}}
(SELECT string_agg(quote_ident(n.nspname), ', ' ORDER BY n.nspname)
    FROM pg_publication_namespace s JOIN pg_namespace n ON n.oid = s.pnnspid WHERE s.pnpubid = p.oid)
{{- else}}NULL::text{{end}}{{end}}
{{define "generated columns"}}{{if since 18 -}}
CASE p.pubgencols WHEN 's' THEN ', publish_generated_columns = stored' ELSE '' END{{else}}''{{end}}{{end}}
SELECT
    p.oid,
    quote_ident(p.pubname) AS name,
    format('CREATE PUBLICATION %I', p.pubname) || CASE WHEN p.puballtables THEN ' FOR ALL TABLES'
        ELSE coalesce(' FOR ' || nullif(concat_ws(', ', 'TABLE '
        || (SELECT string_agg(format('ONLY %I.%I', n.nspname, c.relname)
        || {{template "columns and rows"}}, ', ' ORDER BY n.nspname, c.relname) FROM pg_publication_rel x
        JOIN pg_class c ON c.oid = x.prrelid JOIN pg_namespace n ON n.oid = c.relnamespace
        WHERE x.prpubid = p.oid), 'TABLES IN SCHEMA ' || {{template "whole schemas"}}), ''), '') END
        || ' WITH (publish = ' || quote_literal(concat_ws(', ', CASE WHEN p.pubinsert THEN 'insert' END, CASE
        WHEN p.pubupdate THEN 'update' END, CASE WHEN p.pubdelete THEN 'delete' END, CASE
        WHEN p.pubtruncate THEN 'truncate' END)) || CASE WHEN {{template "via root"}}
        THEN ', publish_via_partition_root = true' ELSE '' END || {{template "generated columns"}} || ')' AS sql
FROM pg_publication p
WHERE {{own "pg_publication" "p.oid"}}
    AND {{others "p.pubname"}}
