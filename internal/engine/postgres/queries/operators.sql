-- Operators.
SELECT
    o.oid,
    coalesce((pg_identify_object('pg_operator'::regclass, o.oid, 0)).identity, '') AS name,
    format('CREATE OPERATOR %I.%s (FUNCTION = %s', n.nspname, o.oprname, o.oprcode)
        || {{optional "LEFTARG" "format_type(o.oprleft, NULL)" "o.oprleft = 0"}}
        || {{optional "RIGHTARG" "format_type(o.oprright, NULL)" "o.oprright = 0"}}
        || {{optional "COMMUTATOR" (operator "o.oprcom") "o.oprcom = 0"}}
        || {{optional "NEGATOR" (operator "o.oprnegate") "o.oprnegate = 0"}}
        || {{optional "RESTRICT" "o.oprrest::text" "o.oprrest::oid = 0"}}
        || {{optional "JOIN" "o.oprjoin::text" "o.oprjoin::oid = 0"}}
        || CASE WHEN o.oprcanhash THEN ', HASHES' ELSE '' END || CASE WHEN o.oprcanmerge THEN ', MERGES' ELSE '' END
        || ')' AS sql
FROM pg_operator o
    JOIN pg_namespace n ON n.oid = o.oprnamespace
WHERE o.oprcode::oid <> 0
    AND {{ours}}
    AND {{own "pg_operator" "o.oid"}}
