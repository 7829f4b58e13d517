-- Transforms.
SELECT
    t.oid,
    format('for %s language %I', format_type(t.trftype, NULL), l.lanname) AS name,
    format('CREATE TRANSFORM FOR %s LANGUAGE %I (', format_type(t.trftype, NULL), l.lanname)
        || concat_ws(', ', CASE WHEN t.trffromsql::oid <> 0 THEN 'FROM SQL WITH FUNCTION '
        || t.trffromsql::regprocedure::text END, CASE WHEN t.trftosql::oid <> 0 THEN 'TO SQL WITH FUNCTION '
        || t.trftosql::regprocedure::text END) || ')' AS sql
FROM pg_transform t
    JOIN pg_language l ON l.oid = t.trflang
WHERE t.oid >= 16384
    AND {{own "pg_transform" "t.oid"}}
