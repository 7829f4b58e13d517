-- Schemas that are dumped.
SELECT
    n.oid,
    quote_ident(n.nspname) AS name
FROM pg_namespace n
WHERE {{ours}}
    AND {{own "pg_namespace" "n.oid"}}
