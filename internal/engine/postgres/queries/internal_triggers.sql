-- Triggers behind foreign keys that somebody told to act otherwise; on ordinary tables.
SELECT
    t.tgrelid AS table,
    t.tgconstraint AS constraint,
    format('%I.%I', n.nspname, c.relname) AS on,
    format('%I.%I', kn.nspname, kc.relname) AS of,
    quote_ident(k.conname) AS name,
    p.proname::text AS function,
    t.tgenabled::text AS enabled
FROM pg_trigger t
    JOIN pg_class c ON c.oid = t.tgrelid
    JOIN pg_namespace n ON n.oid = c.relnamespace
    JOIN pg_constraint k ON k.oid = t.tgconstraint
    JOIN pg_class kc ON kc.oid = k.conrelid
    JOIN pg_namespace kn ON kn.oid = kc.relnamespace
    JOIN pg_proc p ON p.oid = t.tgfoid
WHERE t.tgisinternal
    AND t.tgenabled <> 'O'
    AND k.contype = 'f'
    AND {{ours}}
    AND {{own "pg_class" "c.oid"}}
ORDER BY 3, 5, 6
