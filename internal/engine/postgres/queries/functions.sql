-- Functions, procedures and window functions.
{{define "parsed body"}}{{if since 14}}pg_get_function_sqlbody(p.oid){{else}}NULL::text{{end}}{{end}}
SELECT
    p.oid,
    p.prokind::text AS kind,
    (pg_identify_object('pg_proc'::regclass, p.oid, 0)).identity AS name,
    pg_get_functiondef(p.oid) AS def,
    {{template "parsed body"}} AS body,
    l.lanname NOT IN ('c', 'internal') AND {{template "parsed body"}} IS NULL
        AND NOT EXISTS (SELECT FROM unnest(p.proconfig) c WHERE starts_with(c, 'search_path=')) AS loose
FROM pg_proc p
    JOIN pg_language l ON l.oid = p.prolang
    JOIN pg_namespace n ON n.oid = p.pronamespace
WHERE p.prokind IN ('f', 'p', 'w')
    AND {{ours}}
    AND {{own "pg_proc" "p.oid"}}
    AND NOT EXISTS (SELECT FROM pg_depend x WHERE x.classid = 'pg_proc'::regclass AND x.objid = p.oid
        AND x.deptype = 'i')
