-- What ALTER ROLE ALL SET said.
SELECT s.setting
FROM pg_db_role_setting d, unnest(d.setconfig) s(setting)
WHERE d.setdatabase = 0
    AND d.setrole = 0
ORDER BY 1
