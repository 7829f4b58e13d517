-- What the database is made with.
{{define "provider"}}{{if since 15}}datlocprovider::text{{else}}'c'{{end}}{{end}}
{{define "provider's locale"}}{{if since 17}}coalesce(datlocale, '')
{{- else if since 15}}coalesce(daticulocale, ''){{else}}''{{end}}{{end}}
SELECT
    pg_encoding_to_char(encoding) AS encoding,
    datcollate::text AS collate,
    datctype::text AS ctype,
    {{template "provider"}} AS provider,
    {{template "provider's locale"}} AS locale
FROM pg_database
WHERE datname = current_database()
