-- Extended statistics.
{{define "target"}}{{if since 13}}coalesce(s.stxstattarget, -1){{else}}-1{{end}}{{end}}
SELECT
    s.oid,
    s.stxrelid AS table,
    format('%I.%I', n.nspname, s.stxname) AS name,
    pg_get_statisticsobjdef(s.oid) AS def,
    {{template "target"}}::int AS target
FROM pg_statistic_ext s
    JOIN pg_namespace n ON n.oid = s.stxnamespace
WHERE {{ours}}
    AND {{own "pg_statistic_ext" "s.oid"}}
