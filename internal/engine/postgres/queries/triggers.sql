-- Triggers where people made them, and the state of their copies on partitions. One on a table of an extension that
-- calls a function of the same extension is the extension's, whenever somebody told it to be silent or not.
{{define "parent trigger"}}(SELECT x.refobjid FROM pg_depend x WHERE x.classid = 'pg_trigger'::regclass
    AND x.objid = t.oid AND x.refclassid = 'pg_trigger'::regclass LIMIT 1){{end}}
SELECT
    t.oid,
    t.tgrelid AS table,
    t.tgenabled::text AS enabled,
    quote_ident(t.tgname) AS name,
    format('%I.%I', n.nspname, c.relname) AS on,
    pg_get_triggerdef(t.oid) AS def,
    coalesce({{template "parent trigger"}}, 0) AS parent
FROM pg_trigger t
    JOIN pg_class c ON c.oid = t.tgrelid
    JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE (NOT t.tgisinternal OR EXISTS (SELECT FROM pg_trigger p WHERE p.oid = {{template "parent trigger"}} AND
    NOT p.tgisinternal))
    AND {{ours}}
    AND {{own "pg_trigger" "t.oid"}}
    AND {{later "t" "pg_class" "c.oid"}}
    AND NOT EXISTS (SELECT FROM pg_depend x JOIN pg_depend y ON y.refobjid = x.refobjid AND y.deptype = 'e'
        WHERE x.classid = 'pg_class'::regclass AND x.objid = c.oid AND x.deptype = 'e'
        AND y.classid = 'pg_proc'::regclass AND y.objid = t.tgfoid)
