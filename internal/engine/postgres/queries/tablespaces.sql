-- Tablespaces. Their options are numbers that a user sets.
SELECT
    quote_ident(spcname) AS name,
    format('CREATE TABLESPACE %I OWNER %s LOCATION %L', spcname, spcowner::regrole, pg_tablespace_location(oid))
        || coalesce(' WITH (' || array_to_string(spcoptions, ', ') || ')', '') AS sql
FROM pg_tablespace
WHERE spcname !~ '^pg_'
ORDER BY 1
