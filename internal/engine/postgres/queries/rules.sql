-- Rules, but for those that make a view a view.
SELECT
    w.oid,
    w.ev_class AS table,
    w.ev_enabled::text AS enabled,
    quote_ident(w.rulename) AS name,
    format('%I.%I', n.nspname, c.relname) AS on,
    pg_get_ruledef(w.oid) AS def
FROM pg_rewrite w
    JOIN pg_class c ON c.oid = w.ev_class
    JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE w.rulename <> '_RETURN'
    AND {{ours}}
    AND {{own "pg_rewrite" "w.oid"}}
    AND {{later "w" "pg_class" "c.oid"}}
