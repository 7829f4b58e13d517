-- The owner and the limits of the database itself.
SELECT
    datdba::regrole::text AS owner,
    datconnlimit AS limit,
    datistemplate AS template
FROM pg_database
WHERE datname = current_database()
