-- Enum types.
SELECT
    t.oid,
    t.typarray AS array,
    format('%I.%I', n.nspname, t.typname) AS name,
    (SELECT coalesce(string_agg(quote_literal(e.enumlabel), ', ' ORDER BY e.enumsortorder), '') FROM pg_enum e
        WHERE e.enumtypid = t.oid) AS labels
FROM pg_type t
    JOIN pg_namespace n ON n.oid = t.typnamespace
WHERE t.typtype = 'e'
    AND {{ours}}
    AND {{own "pg_type" "t.oid"}}
