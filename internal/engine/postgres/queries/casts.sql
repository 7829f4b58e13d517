-- Casts.
SELECT
    c.oid,
    format('(%s AS %s)', format_type(c.castsource, NULL), format_type(c.casttarget, NULL)) AS name,
    format('CREATE CAST (%s AS %s) ', format_type(c.castsource, NULL), format_type(c.casttarget, NULL))
        || CASE c.castmethod WHEN 'f' THEN 'WITH FUNCTION '
        || c.castfunc::regprocedure::text WHEN 'i' THEN 'WITH INOUT' ELSE 'WITHOUT FUNCTION' END
        || CASE c.castcontext WHEN 'a' THEN ' AS ASSIGNMENT' WHEN 'i' THEN ' AS IMPLICIT' ELSE '' END AS sql
FROM pg_cast c
WHERE c.oid >= 16384
    AND {{own "pg_cast" "c.oid"}}
    AND NOT EXISTS (SELECT FROM pg_depend x WHERE x.classid = 'pg_cast'::regclass AND x.objid = c.oid
        AND x.deptype = 'i')
