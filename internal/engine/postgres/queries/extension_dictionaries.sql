-- Dictionaries of extensions whose options somebody has changed since.
SELECT
    x.refobjid AS extension,
    format('%I.%I', n.nspname, d.dictname) AS name,
    coalesce(d.dictinitoption, '') AS options
FROM pg_ts_dict d
    JOIN pg_namespace n ON n.oid = d.dictnamespace
    JOIN pg_depend x ON x.classid = 'pg_ts_dict'::regclass AND x.objid = d.oid AND x.deptype = 'e'
WHERE {{changed "d" "'pg_ts_dict'::regclass" "d.oid"}}
    AND d.dictinitoption <> ''
ORDER BY 2
