-- What the server's change log tells of each table: by which columns it names rows, by the server's own rule; and what
-- tells the table from one that was made anew, rewritten, or logged in another way meanwhile. Of that, texts are not
-- enough: they can be changed there and back. A row of a catalog has another xmin after each change, but ANALYZE, VACUUM
-- and the making of an index change none of those that are looked at here.
WITH RECURSIVE uses (rel, typ) AS (
    SELECT a.attrelid, a.atttypid
    FROM pg_attribute a
        JOIN pg_class c ON c.oid = a.attrelid
    WHERE c.relkind = 'r' AND a.attnum > 0 AND NOT a.attisdropped AND a.atttypid >= 16384
    UNION
    SELECT u.rel, x.typ
    FROM uses u
        JOIN pg_type t ON t.oid = u.typ
        CROSS JOIN LATERAL (
            SELECT t.typbasetype AS typ
            UNION ALL SELECT t.typelem
            UNION ALL SELECT a.atttypid FROM pg_attribute a WHERE a.attrelid = t.typrelid AND a.attnum > 0 AND NOT a.attisdropped
            UNION ALL SELECT r.rngsubtype FROM pg_range r WHERE r.rngtypid = t.oid
        ) x
    WHERE x.typ >= 16384
), types AS (
    SELECT u.rel, string_agg(concat_ws(':', t.oid, t.xmin,
        (SELECT string_agg(concat_ws('.', e.oid, e.xmin), ',' ORDER BY e.oid) FROM pg_enum e WHERE e.enumtypid = t.oid),
        (SELECT string_agg(concat_ws('.', a.attnum, a.xmin), ',' ORDER BY a.attnum) FROM pg_attribute a
            WHERE a.attrelid = t.typrelid AND a.attnum > 0),
        (SELECT string_agg(concat_ws('.', x.oid, x.xmin), ',' ORDER BY x.oid) FROM pg_constraint x
            WHERE x.contypid = t.oid)), ' ' ORDER BY t.oid) AS token
    FROM uses u
        JOIN pg_type t ON t.oid = u.typ
    GROUP BY u.rel
)
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
    md5(concat_ws('|', c.oid, c.relfilenode, c.relreplident,
        (SELECT string_agg(concat_ws(':', a.attnum, a.atttypid, a.atttypmod, a.attisdropped, a.xmin), ' ' ORDER BY a.attnum)
            FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0),
        (SELECT string_agg(concat_ws(':', i.indexrelid, i.xmin), ' ' ORDER BY i.indexrelid) FROM pg_index i
            WHERE i.indrelid = c.oid AND (i.indisunique OR i.indisreplident OR i.indisexclusion)),
        (SELECT string_agg(concat_ws(':', x.oid, x.xmin), ' ' ORDER BY x.oid) FROM pg_constraint x
            WHERE x.conrelid = c.oid AND x.contype IN ('p', 'u', 'x')),
        types.token,
        (SELECT concat_ws(':', p.oid, p.xmin, r.oid, r.xmin) FROM pg_publication_rel r
            JOIN pg_publication p ON p.oid = r.prpubid WHERE r.prrelid = c.oid AND p.pubname = {{.publication}}))) AS made,
    EXISTS (SELECT FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid
        WHERE r.prrelid = c.oid AND p.pubname = {{.publication}}) AS published
FROM pg_class c
    JOIN pg_namespace n ON n.oid = c.relnamespace
    LEFT JOIN types ON types.rel = c.oid
WHERE c.relkind = 'r'
    AND c.relpersistence <> 't'
    AND {{ours}}
