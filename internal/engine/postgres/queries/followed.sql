-- What the server's change log tells of each table: by which columns it names rows, by the server's own rule; and what
-- tells the table from one that was made anew or rewritten.
SELECT
    c.oid,
    format('%I.%I', n.nspname, c.relname) AS id,
    c.relpersistence = 'p' AS logged,
    c.relreplident::text AS identity,
    coalesce((SELECT array_agg(a.attname::text) FROM pg_index i CROSS JOIN unnest(i.indkey) k
        JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = k
        WHERE i.indrelid = c.oid AND i.indisvalid AND i.indisready AND i.indislive AND i.indimmediate
            AND (c.relreplident = 'd' AND i.indisprimary OR c.relreplident = 'i' AND i.indisreplident)), '{}') AS named,
    coalesce((SELECT array_agg(a.attname::text) FROM pg_attribute a
        WHERE a.attrelid = c.oid AND a.attidentity = 'a'), '{}') AS always,
    EXISTS (SELECT FROM pg_constraint x WHERE x.conrelid = c.oid AND x.condeferrable AND x.contype IN ('p', 'u', 'x')) AS deferrable,
    md5(concat_ws(' ', c.oid, c.relfilenode, c.relreplident, (SELECT string_agg(concat_ws(':', a.attnum, a.atttypid,
        a.atttypmod, a.attisdropped, a.xmin), ' ' ORDER BY a.attnum) FROM pg_attribute a
        WHERE a.attrelid = c.oid AND a.attnum > 0))) AS made,
    EXISTS (SELECT FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid
        WHERE r.prrelid = c.oid AND p.pubname = {{.publication}}) AS published
FROM pg_class c
    JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind = 'r'
    AND c.relpersistence <> 't'
    AND {{ours}}
