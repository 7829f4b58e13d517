-- Operator classes.
SELECT
    c.oid,
    c.opcfamily AS family,
    format('%I.%I USING %I', n.nspname, c.opcname, a.amname) AS name,
    format('CREATE OPERATOR CLASS %I.%I%s FOR TYPE %s USING %I FAMILY %s AS ', n.nspname, c.opcname, CASE
        WHEN c.opcdefault THEN ' DEFAULT' ELSE '' END, format_type(c.opcintype, NULL), a.amname, (SELECT
        format('%I.%I', fn.nspname, f.opfname) FROM pg_opfamily f JOIN pg_namespace fn ON fn.oid = f.opfnamespace
        WHERE f.oid = c.opcfamily)) AS head,
    CASE WHEN c.opckeytype <> 0 THEN 'STORAGE ' || format_type(c.opckeytype, NULL) ELSE '' END AS storage,
    format_type(c.opcintype, NULL) AS in
FROM pg_opclass c
    JOIN pg_namespace n ON n.oid = c.opcnamespace
    JOIN pg_am a ON a.oid = c.opcmethod
WHERE {{ours}}
    AND {{own "pg_opclass" "c.oid"}}
