-- Roles of the server; from pg_authid where password hashes are wanted.
SELECT
    rolname::text AS name,
    quote_ident(rolname) AS quoted,
    concat_ws(' ', CASE WHEN rolsuper THEN 'SUPERUSER' ELSE 'NOSUPERUSER' END, CASE WHEN rolinherit THEN 'INHERIT'
        ELSE 'NOINHERIT' END, CASE WHEN rolcreaterole THEN 'CREATEROLE' ELSE 'NOCREATEROLE' END, CASE
        WHEN rolcreatedb THEN 'CREATEDB' ELSE 'NOCREATEDB' END, CASE WHEN rolcanlogin THEN 'LOGIN'
        ELSE 'NOLOGIN' END, CASE WHEN rolreplication THEN 'REPLICATION' ELSE 'NOREPLICATION' END, CASE
        WHEN rolbypassrls THEN 'BYPASSRLS' ELSE 'NOBYPASSRLS' END, CASE
        WHEN rolconnlimit <> -1 THEN 'CONNECTION LIMIT ' || rolconnlimit END, CASE
        WHEN rolvaliduntil IS NOT NULL THEN 'VALID UNTIL ' || quote_literal(rolvaliduntil) END) AS options,
    {{if .passwords}}coalesce(rolpassword, ''){{else}}''{{end}} AS secret,
    rolcanlogin AND a.oid <> 10 AS login,
    coalesce(shobj_description(a.oid, 'pg_authid'), '') AS comment,
    coalesce((SELECT setconfig FROM pg_db_role_setting WHERE setrole = a.oid AND setdatabase = 0), '{}') AS settings
FROM {{if .passwords}}pg_authid{{else}}pg_roles{{end}} a
WHERE rolname !~ '^pg_'
ORDER BY 1
