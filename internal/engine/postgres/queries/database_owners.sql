-- Owners and limits of the databases.
SELECT
    quote_ident(datname) AS name,
    datdba::regrole::text AS owner,
    datconnlimit AS limit,
    datistemplate AS template
FROM pg_database
WHERE datname NOT IN ('template0', 'template1', 'postgres')
ORDER BY 1
