-- What ALTER DATABASE … SET said, and ALTER ROLE … IN DATABASE.
SELECT
    coalesce(quote_ident(a.rolname), '') AS role,
    s.setting
FROM pg_db_role_setting d
    LEFT JOIN pg_roles a ON a.oid = d.setrole, unnest(d.setconfig) s(setting)
WHERE d.setdatabase = (SELECT oid FROM pg_database WHERE datname = current_database())
ORDER BY 1, 2
