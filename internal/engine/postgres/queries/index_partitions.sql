-- Indexes of partitions, with those of their parents.
SELECT
    i.inhrelid AS child,
    i.inhparent AS parent,
    format('%I.%I', n.nspname, c.relname) AS name,
    format('%I.%I', pn.nspname, p.relname) AS on,
    x.indrelid AS table
FROM pg_inherits i
    JOIN pg_class c ON c.oid = i.inhrelid
    JOIN pg_namespace n ON n.oid = c.relnamespace
    JOIN pg_class p ON p.oid = i.inhparent
    JOIN pg_namespace pn ON pn.oid = p.relnamespace
    JOIN pg_index x ON x.indexrelid = i.inhrelid
WHERE p.relkind = 'I'
    AND {{ours}}
