-- Security labels.
SELECT
    s.classoid::regclass::text AS k_class,
    s.objoid AS k_oid,
    i.type AS kind,
    i.identity,
    quote_ident(s.provider) AS provider,
    s.label
FROM pg_seclabel s, pg_identify_object(s.classoid, s.objoid, s.objsubid) i
ORDER BY 3, 4, 5
