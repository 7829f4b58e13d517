-- What the database is made with.
{{define "provider"}}{{if since 15}}datlocprovider::text{{else}}'c'{{end}}{{end}}
{{define "provider's locale"}}{{if since 17}}coalesce(datlocale, '')
{{- else if since 15}}coalesce(daticulocale, ''){{else}}''{{end}}{{end}}
{{define "locale's rules"}}{{if since 16}}coalesce(daticurules, ''){{else}}''{{end}}{{end}}
SELECT
    pg_encoding_to_char(encoding) AS encoding,
    datcollate::text AS collate,
    datctype::text AS ctype,
    {{template "provider"}} AS provider,
    {{template "provider's locale"}} AS locale,
    {{template "locale's rules"}} AS rules,
    coalesce((SELECT substr(c, 13) FROM pg_db_role_setting s, unnest(s.setconfig) c
        WHERE s.setdatabase = d.oid AND s.setrole = 0 AND starts_with(c, 'search_path=')), '') AS path,
    CASE WHEN dattablespace = 1663 THEN '' ELSE (SELECT spcname::text FROM pg_tablespace t
        WHERE t.oid = dattablespace) END AS tablespace
FROM pg_database d
WHERE datname = current_database()
