-- Text search dictionaries.
SELECT
    d.oid,
    format('%I.%I', n.nspname, d.dictname) AS name,
    format('CREATE TEXT SEARCH DICTIONARY %I.%I (TEMPLATE = %I.%I', n.nspname, d.dictname, tn.nspname, t.tmplname)
        || CASE WHEN d.dictinitoption <> '' THEN ', ' || d.dictinitoption ELSE '' END || ')' AS sql
FROM pg_ts_dict d
    JOIN pg_namespace n ON n.oid = d.dictnamespace
    JOIN pg_ts_template t ON t.oid = d.dicttemplate
    JOIN pg_namespace tn ON tn.oid = t.tmplnamespace
WHERE {{ours}}
    AND {{own "pg_ts_dict" "d.oid"}}
