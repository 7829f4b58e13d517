-- Row security policies.
SELECT
    p.oid,
    p.polrelid AS table,
    quote_ident(p.polname) AS name,
    format('%I.%I', n.nspname, c.relname) AS on,
    p.polpermissive AS permissive,
    p.polcmd::text AS command,
    array(SELECT quote_ident(rolname) FROM pg_roles WHERE oid = ANY (p.polroles) ORDER BY 1) AS roles,
    0 = ANY (p.polroles) AS public,
    pg_get_expr(p.polqual, p.polrelid) AS using,
    pg_get_expr(p.polwithcheck, p.polrelid) AS check
FROM pg_policy p
    JOIN pg_class c ON c.oid = p.polrelid
    JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE {{ours}}
    AND {{own "pg_policy" "p.oid"}}
    AND {{later "p" "pg_class" "c.oid"}}
