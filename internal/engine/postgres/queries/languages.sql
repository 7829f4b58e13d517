-- Procedural languages.
SELECT
    l.oid,
    quote_ident(l.lanname) AS name,
    format('CREATE%s LANGUAGE %I HANDLER %s', CASE WHEN l.lanpltrusted THEN ' TRUSTED'
        ELSE '' END, l.lanname, l.lanplcallfoid::regproc) || CASE WHEN l.laninline <> 0 THEN ' INLINE '
        || l.laninline::regproc::text ELSE '' END || CASE WHEN l.lanvalidator <> 0 THEN ' VALIDATOR '
        || l.lanvalidator::regproc::text ELSE '' END AS sql
FROM pg_language l
WHERE l.oid >= 16384
    AND l.lanplcallfoid <> 0
    AND {{own "pg_language" "l.oid"}}
