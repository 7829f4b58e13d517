-- What needs what, as the server records it.
SELECT
    d.classid::regclass::text AS own_class,
    d.objid AS own_oid,
    coalesce(w.ev_class, f.adrelid, 0) AS relation,
    coalesce(f.adnum, 0) AS num,
    d.refclassid::regclass::text AS ref_class,
    d.refobjid AS ref_oid
FROM pg_depend d
    LEFT JOIN pg_rewrite w ON d.classid = 'pg_rewrite'::regclass AND w.oid = d.objid
    LEFT JOIN pg_attrdef f ON d.classid = 'pg_attrdef'::regclass AND f.oid = d.objid
WHERE d.objid >= 16384
    AND (d.refobjid >= 16384 OR d.refobjid = coalesce(to_regnamespace('public')::oid, 0))
    AND d.deptype IN ('n', 'a', 'i')
    AND NOT (d.refobjsubid > 0 AND d.classid = 'pg_class'::regclass AND d.deptype IN ('a', 'i'))
ORDER BY 1, 2, 5, 6
