-- Comments.
SELECT
    d.classoid::regclass::text AS class,
    d.objoid AS oid,
    i.type AS kind,
    i.identity,
    d.description AS text,
    coalesce((SELECT conrelid FROM pg_constraint WHERE d.classoid = 'pg_constraint'::regclass
        AND oid = d.objoid), (SELECT tgrelid FROM pg_trigger WHERE d.classoid = 'pg_trigger'::regclass
        AND oid = d.objoid), 0) AS table,
    coalesce((SELECT contypid FROM pg_constraint WHERE d.classoid = 'pg_constraint'::regclass
        AND oid = d.objoid), 0) AS domain,
    {{changed "d" "d.classoid" "d.objoid"}} AS ours
FROM pg_description d, pg_identify_object(d.classoid, d.objoid, d.objsubid) i
WHERE d.objoid >= 16384 OR (d.classoid = 'pg_namespace'::regclass AND d.objoid = to_regnamespace('public') AND
    d.description <> 'standard public schema')
