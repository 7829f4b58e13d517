-- Tables whose rows are dumped, in the order of their OIDs, each with the file that the snapshot's catalog
-- names and the file that there is.
SELECT
    c.oid,
    format('%I.%I', n.nspname, c.relname) AS name,
    c.relfilenode AS in_snapshot,
    coalesce(pg_relation_filenode(c.oid), 0) AS now
FROM pg_class c
    JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p') AND c.relpersistence <> 't'
    AND {{ours}}
ORDER BY c.oid
