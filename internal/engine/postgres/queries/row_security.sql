-- Tables with row security.
SELECT
    c.oid AS table,
    format('%I.%I', n.nspname, c.relname) AS name,
    c.relrowsecurity AS enabled,
    c.relforcerowsecurity AS forced
FROM pg_class c
    JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE (c.relrowsecurity OR c.relforcerowsecurity)
    AND {{ours}}
    AND {{own "pg_class" "c.oid"}}
