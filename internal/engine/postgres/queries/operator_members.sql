-- Members of operator classes and families, with what they hang on. For what is the server's own no such record is
-- kept: then it is the family. A member was added by somebody unless an extension brought it.
SELECT
    m.class AS m_class,
    m.oid AS m_oid,
    coalesce(d.refclassid::regclass::text, 'pg_opfamily') AS on_class,
    coalesce(d.refobjid, m.family) AS on_oid,
    m.sql AS m_sql,
    format('%I.%I USING %I', n.nspname, f.opfname, a.amname) AS family,
    m.oid >= 16384 AND NOT m.brought AND (m.does >= 16384
        OR NOT EXISTS (SELECT FROM pg_depend x WHERE x.deptype = 'e' AND x.xmin = m.made)) AS added
FROM (
    SELECT 'pg_amop', m.oid, m.xmin, m.amopfamily, m.amopopr,
        NOT {{own "pg_operator" "m.amopopr"}},
        format('OPERATOR %s %s (%s, %s)', m.amopstrategy, (SELECT format('%I.%s', xn.nspname, xo.oprname)
            FROM pg_operator xo JOIN pg_namespace xn ON xn.oid = xo.oprnamespace
            WHERE xo.oid = m.amopopr), format_type(m.amoplefttype, NULL), format_type(m.amoprighttype, NULL))
            || CASE WHEN m.amoppurpose = 'o' THEN ' FOR ORDER BY '
            || (SELECT format('%I.%I', fn.nspname, f.opfname) FROM pg_opfamily f
            JOIN pg_namespace fn ON fn.oid = f.opfnamespace WHERE f.oid = m.amopsortfamily) ELSE '' END
    FROM pg_amop m
    UNION ALL SELECT 'pg_amproc', m.oid, m.xmin, m.amprocfamily, m.amproc::oid,
        NOT {{own "pg_proc" "m.amproc"}},
        format('FUNCTION %s (%s, %s) %s', m.amprocnum, format_type(m.amproclefttype, NULL),
            format_type(m.amprocrighttype, NULL), m.amproc::regprocedure)
    FROM pg_amproc m) m (class, oid, made, family, does, brought, sql)
    JOIN pg_opfamily f ON f.oid = m.family
    JOIN pg_namespace n ON n.oid = f.opfnamespace
    JOIN pg_am a ON a.oid = f.opfmethod
    LEFT JOIN pg_depend d ON d.classid = m.class::regclass AND d.objid = m.oid
        AND d.refclassid IN ('pg_opclass'::regclass, 'pg_opfamily'::regclass) AND d.deptype IN ('a', 'i')
WHERE m.oid >= 16384
ORDER BY 1 DESC, 5
