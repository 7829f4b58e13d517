-- Extensions.
SELECT
    e.oid,
    quote_ident(e.extname) AS name,
    format('CREATE EXTENSION %I WITH SCHEMA %I VERSION %L', e.extname, n.nspname, e.extversion) AS sql
FROM pg_extension e
    JOIN pg_namespace n ON n.oid = e.extnamespace
