-- What tables and partitions inherit from, in order.
SELECT
    i.inhrelid AS child,
    i.inhparent AS p_oid,
    format('%I.%I', n.nspname, c.relname) AS p_id
FROM pg_inherits i
    JOIN pg_class c ON c.oid = i.inhparent
    JOIN pg_namespace n ON n.oid = c.relnamespace
ORDER BY i.inhrelid, i.inhseqno
