-- Keys, checks and references, but for those that came from a parent.
SELECT
    k.oid,
    k.contype::text AS kind,
    k.conrelid AS table,
    k.confrelid AS other,
    k.contypid AS domain,
    k.conindid AS index,
    quote_ident(k.conname) AS name,
    CASE WHEN k.conrelid <> 0 THEN (SELECT format('%I.%I', cn.nspname, c.relname) FROM pg_class c
        JOIN pg_namespace cn ON cn.oid = c.relnamespace WHERE c.oid = k.conrelid)
        ELSE (SELECT format('%I.%I', tn.nspname, t.typname) FROM pg_type t
        JOIN pg_namespace tn ON tn.oid = t.typnamespace WHERE t.oid = k.contypid) END AS relation,
    pg_get_constraintdef(k.oid) AS body,
    k.convalidated AS validated,
    coalesce((SELECT c.relkind = 'p' FROM pg_class c WHERE c.oid = k.conrelid), false) AS partitioned,
    coalesce((SELECT bool_or(c.relhassubclass) FROM pg_class c
        WHERE c.oid IN (k.conrelid, k.confrelid)), false) AS tree,
    k.conparentid AS parent
FROM pg_constraint k
    JOIN pg_namespace n ON n.oid = k.connamespace
WHERE k.contype IN ('p', 'u', 'c', 'f', 'x')
    AND NOT (k.contype = 'c' AND k.conrelid <> 0 AND NOT k.conislocal)
    AND NOT EXISTS (SELECT FROM pg_constraint p WHERE p.oid = k.conparentid AND p.conrelid = k.conrelid)
    AND {{ours}}
    AND {{own "pg_constraint" "k.oid"}}
    AND {{later "k" "pg_class" "k.conrelid"}}
    AND {{later "k" "pg_type" "k.contypid"}}
