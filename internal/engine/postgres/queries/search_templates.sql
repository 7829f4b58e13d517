-- Text search templates.
SELECT
    t.oid,
    format('%I.%I', n.nspname, t.tmplname) AS name,
    format('CREATE TEXT SEARCH TEMPLATE %I.%I (', n.nspname, t.tmplname)
        || CASE WHEN t.tmplinit::oid <> 0 THEN 'INIT = ' || t.tmplinit::text || ', ' ELSE '' END || 'LEXIZE = '
        || t.tmpllexize::text || ')' AS sql
FROM pg_ts_template t
    JOIN pg_namespace n ON n.oid = t.tmplnamespace
WHERE {{ours}}
    AND {{own "pg_ts_template" "t.oid"}}
