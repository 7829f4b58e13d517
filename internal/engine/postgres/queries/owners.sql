-- Objects that have an owner of their own: class, OID, what ALTER calls it, its name, its owner.
SELECT class, oid, word, name, owner::regrole::text AS owner
FROM (
SELECT 'pg_namespace', n.oid, 'SCHEMA', quote_ident(n.nspname), n.nspowner FROM pg_namespace n
    WHERE NOT (n.nspname = 'public' AND (n.nspowner = 10 OR n.nspowner::regrole::text = 'pg_database_owner'))
UNION ALL SELECT 'pg_type', t.oid, CASE t.typtype WHEN 'd' THEN 'DOMAIN' ELSE 'TYPE' END, format('%I.%I',
    n.nspname, t.typname), t.typowner
    FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace WHERE t.typisdefined AND {{ours}}
UNION ALL SELECT 'pg_proc', p.oid, CASE p.prokind WHEN 'p' THEN 'PROCEDURE' WHEN 'a' THEN 'ROUTINE' ELSE
    'FUNCTION' END,
    coalesce(CASE p.prokind WHEN 'a' THEN (pg_identify_object('pg_proc'::regclass, p.oid, 0)).identity ELSE {{routine}} END, ''), p.proowner FROM pg_proc p JOIN
        pg_namespace n ON n.oid = p.pronamespace WHERE {{ours}}
UNION ALL SELECT 'pg_class', c.oid, CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'S' THEN 'SEQUENCE' WHEN 'm' THEN
    'MATERIALIZED VIEW' WHEN 'f' THEN 'FOREIGN TABLE' ELSE 'TABLE' END,
    format('%I.%I', n.nspname, c.relname), c.relowner
    FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'p', 'f', 'v', 'm',
        'S') AND c.relpersistence <> 't' AND {{ours}}
    AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.classid = 'pg_class'::regclass AND d.objid = c.oid AND
        c.relkind = 'S'
    	AND d.refclassid = 'pg_class'::regclass AND d.deptype IN ('a', 'i'))
UNION ALL SELECT 'pg_operator', o.oid, 'OPERATOR', coalesce((pg_identify_object('pg_operator'::regclass, o.oid,
    0)).identity, ''), o.oprowner FROM pg_operator o WHERE o.oid >= 16384
UNION ALL SELECT 'pg_opclass', o.oid, 'OPERATOR CLASS', coalesce((pg_identify_object('pg_opclass'::regclass,
    o.oid, 0)).identity, ''), o.opcowner FROM pg_opclass o WHERE o.oid >= 16384
UNION ALL SELECT 'pg_opfamily', o.oid, 'OPERATOR FAMILY', coalesce((pg_identify_object('pg_opfamily'::regclass,
    o.oid, 0)).identity, ''), o.opfowner FROM pg_opfamily o WHERE o.oid >= 16384
UNION ALL SELECT 'pg_collation', o.oid, 'COLLATION', format('%I.%I', n.nspname, o.collname), o.collowner FROM
    pg_collation o JOIN pg_namespace n ON n.oid = o.collnamespace WHERE {{ours}}
UNION ALL SELECT 'pg_conversion', o.oid, 'CONVERSION', format('%I.%I', n.nspname, o.conname), o.conowner FROM
    pg_conversion o JOIN pg_namespace n ON n.oid = o.connamespace WHERE {{ours}}
UNION ALL SELECT 'pg_statistic_ext', o.oid, 'STATISTICS', format('%I.%I', n.nspname, o.stxname), o.stxowner
    FROM pg_statistic_ext o JOIN pg_namespace n ON n.oid = o.stxnamespace WHERE {{ours}}
UNION ALL SELECT 'pg_ts_dict', o.oid, 'TEXT SEARCH DICTIONARY', format('%I.%I', n.nspname, o.dictname),
    o.dictowner FROM pg_ts_dict o JOIN pg_namespace n ON n.oid = o.dictnamespace WHERE {{ours}}
UNION ALL SELECT 'pg_ts_config', o.oid, 'TEXT SEARCH CONFIGURATION', format('%I.%I', n.nspname, o.cfgname),
    o.cfgowner FROM pg_ts_config o JOIN pg_namespace n ON n.oid = o.cfgnamespace WHERE {{ours}}
UNION ALL SELECT 'pg_language', o.oid, 'LANGUAGE', quote_ident(o.lanname), o.lanowner FROM pg_language o
UNION ALL SELECT 'pg_foreign_data_wrapper', o.oid, 'FOREIGN DATA WRAPPER', quote_ident(o.fdwname), o.fdwowner
    FROM pg_foreign_data_wrapper o
UNION ALL SELECT 'pg_foreign_server', o.oid, 'SERVER', quote_ident(o.srvname), o.srvowner FROM
    pg_foreign_server o
UNION ALL SELECT 'pg_event_trigger', o.oid, 'EVENT TRIGGER', quote_ident(o.evtname), o.evtowner FROM
    pg_event_trigger o
UNION ALL SELECT 'pg_publication', o.oid, 'PUBLICATION', quote_ident(o.pubname), o.pubowner FROM pg_publication
    o WHERE {{others "o.pubname"}}
UNION ALL SELECT 'pg_subscription', o.oid, 'SUBSCRIPTION', quote_ident(o.subname), o.subowner FROM
    pg_subscription o) o (class, oid, word, name, owner)
