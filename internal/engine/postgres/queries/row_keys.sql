-- The columns of one key of each table that tells its rows apart, in order: the primary key, or another one. Only keys
-- whose order is the same everywhere; texts are in the order of their bytes.
WITH keys AS (
    SELECT DISTINCT ON (i.indrelid) i.indrelid, i.indkey, i.indnkeyatts
    FROM pg_index i
    WHERE i.indisunique AND i.indisvalid AND i.indimmediate AND i.indpred IS NULL AND i.indexprs IS NULL
        AND NOT EXISTS (
            SELECT FROM generate_series(0, i.indnkeyatts - 1) p
                LEFT JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = i.indkey[p]
                LEFT JOIN pg_type t ON t.oid = a.atttypid
                LEFT JOIN pg_type b ON b.oid = coalesce(nullif(t.typbasetype, 0), t.oid)
            WHERE a.attnum IS NULL OR NOT a.attnotnull OR a.attgenerated <> ''
                OR NOT (b.typtype = 'e' OR b.oid::regtype IN ('boolean', 'bytea', '"char"', 'name', 'smallint', 'integer',
                    'bigint', 'oid', 'numeric', 'real', 'double precision', 'date', 'time', 'timetz', 'timestamp',
                    'timestamptz', 'interval', 'uuid', 'text', 'varchar', 'bpchar', 'inet', 'cidr', 'macaddr',
                    'macaddr8', 'bit', 'varbit')))
    ORDER BY i.indrelid, i.indisprimary DESC, i.indnkeyatts, i.indexrelid
)
SELECT
    k.indrelid AS table,
    a.attname::text AS name,
    quote_ident(a.attname) AS quoted,
    a.attcollation <> 0 AS text,
    a.attcollation IN (950, 951) AS bytewise
FROM keys k
    JOIN pg_class c ON c.oid = k.indrelid
    CROSS JOIN generate_series(0, k.indnkeyatts - 1) p
    JOIN pg_attribute a ON a.attrelid = k.indrelid AND a.attnum = k.indkey[p]
WHERE c.relkind = 'r'
ORDER BY k.indrelid, p
