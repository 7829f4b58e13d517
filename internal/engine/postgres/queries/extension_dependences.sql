-- What was told to go with an extension.
SELECT
    d.classid::regclass::text AS k_class,
    d.objid AS k_oid,
    d.refobjid AS extension,
    i.type AS kind,
    i.identity,
    quote_ident(e.extname) AS name,
    coalesce(t.tgrelid, 0) AS table
FROM pg_depend d
    JOIN pg_extension e ON e.oid = d.refobjid
    LEFT JOIN pg_trigger t ON d.classid = 'pg_trigger'::regclass
        AND t.oid = d.objid, pg_identify_object(d.classid, d.objid, d.objsubid) i
WHERE i.identity IS NOT NULL
    AND d.refclassid = 'pg_extension'::regclass
    AND d.deptype = 'x'
