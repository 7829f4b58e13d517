-- User mappings; through the view where the catalog may not be read.
{{define "mappings"}}{{if .hidden}}pg_user_mappings{{else}}(
    SELECT u.oid AS umid, u.umserver AS srvid, s.srvname, u.umuser, a.rolname AS usename, u.umoptions
    FROM pg_user_mapping u JOIN pg_foreign_server s ON s.oid = u.umserver
        LEFT JOIN pg_roles a ON a.oid = u.umuser){{end}}{{end}}
SELECT
    m.umid AS oid,
    m.srvid AS server,
    quote_ident(m.srvname) AS name,
    CASE WHEN m.umuser = 0 THEN '' ELSE quote_ident(m.usename) END AS user,
    coalesce((SELECT array_agg(option_name::text || '=' || option_value ORDER BY n)
        FROM pg_options_to_table(m.umoptions) WITH ORDINALITY o(option_name, option_value, n)), '{}') AS given
FROM {{template "mappings" .}} m
