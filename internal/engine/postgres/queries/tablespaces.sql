-- Tablespaces. Their options are numbers that a user sets.
SELECT
    quote_ident(spcname) AS name,
    format('CREATE TABLESPACE %I OWNER %s LOCATION %L', spcname, spcowner::regrole, pg_tablespace_location(oid))
        || coalesce(' WITH (' || {{settable "spcoptions"}} || ')', '') AS sql
FROM pg_tablespace
WHERE spcname !~ '^pg_'
ORDER BY 1
