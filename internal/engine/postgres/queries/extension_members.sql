-- What belongs to extensions.
SELECT
    classid::regclass::text AS k_class,
    objid AS k_oid,
    refobjid AS extension
FROM pg_depend
WHERE refclassid = 'pg_extension'::regclass
    AND deptype = 'e'
