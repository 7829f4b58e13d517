-- What the user of this session could do beyond scratch databases of its own.
SELECT w FROM pg_roles r, LATERAL (VALUES
    (1, r.rolsuper, 'it is a superuser'),
    (2, r.rolcreaterole AND NOT r.rolsuper, 'it makes roles'),
    (3, r.rolreplication AND NOT r.rolsuper, 'it may replicate'),
    (4, r.rolbypassrls AND NOT r.rolsuper, 'row security does not bind it')) v (n, so, w)
WHERE r.rolname = current_user AND v.so
UNION ALL
SELECT 'it is a member of ' || rolname FROM pg_roles
WHERE rolname ~ '^pg_' AND pg_has_role(current_user, oid, 'USAGE')
    AND NOT (SELECT rolsuper FROM pg_roles WHERE rolname = current_user)
UNION ALL
SELECT 'it owns the database ' || quote_ident(datname) FROM pg_database
WHERE datdba = (SELECT oid FROM pg_roles WHERE rolname = current_user)
    AND NOT starts_with(datname, 'grainkeep_')
    AND NOT (SELECT rolsuper FROM pg_roles WHERE rolname = current_user)
