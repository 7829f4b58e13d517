-- Members of operator classes and families, with what they hang on.
{{define "family"}}CASE d.refclassid WHEN 'pg_opfamily'::regclass THEN (SELECT format('%I.%I USING %I', fn.nspname,
    f.opfname, fa.amname) FROM pg_opfamily f JOIN pg_namespace fn ON fn.oid = f.opfnamespace
    JOIN pg_am fa ON fa.oid = f.opfmethod WHERE f.oid = d.refobjid) ELSE '' END{{end}}
{{define "by hand"}}NOT EXISTS (SELECT FROM pg_depend x WHERE x.deptype = 'e' AND x.xmin = m.xmin){{end}}
SELECT
    'pg_amop' AS m_class,
    m.oid AS m_oid,
    d.refclassid::regclass::text AS on_class,
    d.refobjid AS on_oid,
    format('OPERATOR %s %s (%s, %s)', m.amopstrategy, (SELECT format('%I.%s', xn.nspname, xo.oprname)
        FROM pg_operator xo JOIN pg_namespace xn ON xn.oid = xo.oprnamespace
        WHERE xo.oid = m.amopopr), format_type(m.amoplefttype, NULL), format_type(m.amoprighttype, NULL))
        || CASE WHEN m.amoppurpose = 'o' THEN ' FOR ORDER BY '
        || (SELECT format('%I.%I', fn.nspname, f.opfname) FROM pg_opfamily f
        JOIN pg_namespace fn ON fn.oid = f.opfnamespace WHERE f.oid = m.amopsortfamily) ELSE '' END AS m_sql,
    {{template "family"}} AS family,
    m.oid >= 16384 AND {{template "by hand"}} AS added
FROM pg_amop m
    JOIN pg_depend d ON d.classid = 'pg_amop'::regclass AND d.objid = m.oid
        AND d.refclassid IN ('pg_opclass'::regclass, 'pg_opfamily'::regclass) AND d.deptype IN ('a', 'i')
UNION ALL SELECT 'pg_amproc', m.oid, d.refclassid::regclass::text, d.refobjid,
    format('FUNCTION %s (%s, %s) %s', m.amprocnum, format_type(m.amproclefttype, NULL),
    format_type(m.amprocrighttype, NULL), m.amproc::regprocedure),
    {{template "family"}},
    m.oid >= 16384 AND {{template "by hand"}}
FROM pg_amproc m
    JOIN pg_depend d ON d.classid = 'pg_amproc'::regclass AND d.objid = m.oid
        AND d.refclassid IN ('pg_opclass'::regclass, 'pg_opfamily'::regclass) AND d.deptype IN ('a', 'i')
ORDER BY 1 DESC, 5
