-- Operator families.
SELECT
    f.oid,
    format('%I.%I USING %I', n.nspname, f.opfname, a.amname) AS name,
    format('CREATE OPERATOR FAMILY %I.%I USING %I', n.nspname, f.opfname, a.amname) AS sql
FROM pg_opfamily f
    JOIN pg_namespace n ON n.oid = f.opfnamespace
    JOIN pg_am a ON a.oid = f.opfmethod
WHERE {{ours}}
    AND {{own "pg_opfamily" "f.oid"}}
