-- Owners and comments of large objects.
SELECT
    m.oid::text AS oid,
    m.lomowner::regrole::text AS owner,
    coalesce(obj_description(m.oid, 'pg_largeobject'), '') AS comment
FROM pg_largeobject_metadata m
ORDER BY m.oid::bigint
