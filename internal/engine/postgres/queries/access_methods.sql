-- Access methods.
SELECT
    a.oid,
    quote_ident(a.amname) AS name,
    format('CREATE ACCESS METHOD %I TYPE %s HANDLER %s', a.amname, CASE a.amtype WHEN 't' THEN 'TABLE'
        ELSE 'INDEX' END, a.amhandler) AS sql
FROM pg_am a
WHERE a.oid >= 16384
    AND {{own "pg_am" "a.oid"}}
