-- Collations.
{{define "locale"}}{{if since 17}}co.colllocale{{else if since 15}}co.colliculocale{{else -}}
CASE WHEN co.collprovider = 'i' THEN co.collcollate::text END{{end}}{{end}}
{{define "rules"}}{{if since 16}}co.collicurules{{else}}''{{end}}{{end}}
SELECT
    co.oid,
    format('%I.%I', n.nspname, co.collname) AS name,
    format('CREATE COLLATION %I.%I (PROVIDER = %s', n.nspname, co.collname, CASE co.collprovider WHEN 'i' THEN 'icu'
        WHEN 'b' THEN 'builtin' ELSE 'libc' END) || CASE WHEN co.collprovider = 'c'
        THEN format(', LC_COLLATE = %L, LC_CTYPE = %L', co.collcollate::text, co.collctype::text)
        ELSE format(', LOCALE = %L', {{template "locale"}}) END
        || CASE WHEN co.collisdeterministic THEN '' ELSE ', DETERMINISTIC = false' END
        || CASE WHEN {{template "rules"}} <> '' THEN format(', RULES = %L', {{template "rules"}}) ELSE '' END
        || ')' AS sql
FROM pg_collation co
    JOIN pg_namespace n ON n.oid = co.collnamespace
WHERE {{ours}}
    AND {{own "pg_collation" "co.oid"}}
