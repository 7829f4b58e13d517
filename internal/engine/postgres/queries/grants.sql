-- Rights on everything, down to columns: class, OID, column number, what GRANT calls it, its name, the column's, the
-- rights, the owner. Objects of the server and of extensions count where an administrator changed their rights.
{{define "things with rights"}}
SELECT 'pg_namespace', n.oid, 0, 'SCHEMA', quote_ident(n.nspname), '', n.nspacl, n.nspowner, n.nspname FROM
    pg_namespace n
UNION ALL SELECT 'pg_type', t.oid, 0, 'TYPE', format('%I.%I', n.nspname, t.typname), '', t.typacl, t.typowner,
    n.nspname
    FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace
UNION ALL SELECT 'pg_proc', p.oid, 0, CASE p.prokind WHEN 'p' THEN 'PROCEDURE' WHEN 'a' THEN 'ROUTINE' ELSE
    'FUNCTION' END,
    coalesce(CASE p.prokind WHEN 'a' THEN (pg_identify_object('pg_proc'::regclass, p.oid, 0)).identity ELSE {{routine}} END, ''), '', p.proacl, p.proowner,
        n.nspname FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE p.proacl IS NOT NULL
UNION ALL SELECT 'pg_class', c.oid, 0, CASE c.relkind WHEN 'S' THEN 'SEQUENCE' ELSE 'TABLE' END,
    format('%I.%I', n.nspname, c.relname), '', c.relacl, c.relowner, n.nspname
    FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relpersistence <> 't'
UNION ALL SELECT 'pg_class', c.oid, a.attnum, 'TABLE', format('%I.%I', n.nspname, c.relname),
    quote_ident(a.attname), a.attacl, c.relowner, n.nspname
    FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
        WHERE a.attacl IS NOT NULL AND NOT a.attisdropped AND c.relpersistence <> 't'
UNION ALL SELECT 'pg_language', o.oid, 0, 'LANGUAGE', quote_ident(o.lanname), '', o.lanacl, o.lanowner, '' FROM
    pg_language o
UNION ALL SELECT 'pg_foreign_data_wrapper', o.oid, 0, 'FOREIGN DATA WRAPPER', quote_ident(o.fdwname), '',
    o.fdwacl, o.fdwowner, '' FROM pg_foreign_data_wrapper o
UNION ALL SELECT 'pg_foreign_server', o.oid, 0, 'FOREIGN SERVER', quote_ident(o.srvname), '', o.srvacl,
    o.srvowner, '' FROM pg_foreign_server o
UNION ALL SELECT 'pg_largeobject', o.oid, 0, 'LARGE OBJECT', o.oid::text, '', o.lomacl, o.lomowner, '' FROM
    pg_largeobject_metadata o
{{end}}
{{- /* The server does not record the first rights on information_schema: the schema and its views are there for
everybody. */ -}}
{{define "changed standard"}}
    (SELECT string_agg(f.grantee || f.privilege_type, ',') FROM aclexplode(o.acl) f WHERE f.grantee <> o.owner)
    IS DISTINCT FROM CASE WHEN o.num > 0 THEN NULL WHEN o.class = 'pg_class' THEN '0SELECT'
        WHEN o.class = 'pg_namespace' THEN '0USAGE' END{{end}}
SELECT
    o.class,
    o.oid,
    o.word,
    o.name,
    o.col AS column,
    o.owner::regrole::text AS owner,
    coalesce((SELECT string_agg(DISTINCT f.grantee::regrole::text, ', ')
        FROM aclexplode(i.initprivs) f WHERE f.grantee <> 0 AND f.grantee <> o.owner), '') AS former,
    coalesce(x.privilege_type, '') AS what,
    coalesce(x.is_grantable, false) AS option,
    CASE x.grantee WHEN 0 THEN 'PUBLIC' ELSE x.grantee::regrole::text END AS grantee,
    x.grantor::regrole::text AS grantor,
    CASE WHEN x.grantor <> o.owner AND o.schema <> '' AND o.word <> 'SCHEMA'
        AND NOT has_schema_privilege(x.grantor, o.schema, 'USAGE') THEN quote_ident(o.schema) ELSE '' END AS door
FROM ({{template "things with rights"}}) o (class, oid, num, word, name, col, acl, owner, schema)
    LEFT JOIN pg_init_privs i ON i.classoid = o.class::regclass AND i.objoid = o.oid AND i.objsubid = o.num
    LEFT JOIN LATERAL aclexplode(o.acl) x ON true
WHERE o.acl IS NOT NULL AND o.acl IS DISTINCT FROM i.initprivs
    AND o.schema <> 'pg_toast' AND o.schema IS DISTINCT FROM nullif(current_setting('grainkeep.mark', true), '') AND o.schema !~ '^pg_(temp|toast_temp)_'
    AND (o.schema <> 'information_schema' OR {{template "changed standard"}})
ORDER BY 1, 2, 5, x.grantee, x.grantor, x.is_grantable, x.privilege_type
