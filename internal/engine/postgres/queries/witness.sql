-- What the server says of a table, as JSON: nothing of it goes through the other queries.
{{define "keyless"}}{{if since 18}}, (SELECT count(*) FROM pg_constraint x WHERE x.conrelid = t.oid AND x.contype = 'n'){{else}}, 0{{end}}{{end}}
SELECT json_build_object(
    'columns', (SELECT json_agg(json_build_object('name', a.attname, 'says', concat(
            format_type(a.atttypid, a.atttypmod),
            (SELECT ' collate ' || c.collname FROM pg_collation c, pg_type y WHERE c.oid = a.attcollation
                AND y.oid = a.atttypid AND a.attcollation <> y.typcollation),
            CASE WHEN a.attnotnull THEN ' not null' END,
            CASE a.attidentity WHEN 'a' THEN ' identity always' WHEN 'd' THEN ' identity' END,
            CASE WHEN a.attgenerated <> '' THEN ' generated' END,
            ' ' || pg_get_expr(d.adbin, d.adrelid))) ORDER BY a.attnum)
        FROM pg_attribute a
            LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
        WHERE a.attrelid = t.oid AND a.attnum > 0 AND NOT a.attisdropped),
    'holds', format('%s indexes, %s constraints, %s required columns, %s triggers (%s off), %s rules, %s policies, %s statistics',
        (SELECT count(*) FROM pg_index x WHERE x.indrelid = t.oid AND x.indisvalid),
        (SELECT count(*) FROM pg_constraint x WHERE x.conrelid = t.oid AND x.contype <> 'n'){{template "keyless"}},
        (SELECT count(*) FROM pg_trigger x WHERE x.tgrelid = t.oid AND NOT x.tgisinternal),
        (SELECT count(*) FROM pg_trigger x WHERE x.tgrelid = t.oid AND x.tgenabled <> 'O'),
        (SELECT count(*) FROM pg_rewrite x WHERE x.ev_class = t.oid),
        (SELECT count(*) FROM pg_policy x WHERE x.polrelid = t.oid),
        (SELECT count(*) FROM pg_statistic_ext x WHERE x.stxrelid = t.oid)),
    'key', (SELECT json_agg(quote_ident(a.attname) ORDER BY k.n)
        FROM pg_index i, unnest(i.indkey::int2[]) WITH ORDINALITY k (num, n), pg_attribute a
        WHERE i.indrelid = t.oid AND i.indisprimary AND a.attrelid = t.oid AND a.attnum = k.num),
    'stable', (SELECT coalesce(bool_and(a.attcollation = 0 OR coalesce(nullif(c.collcollate, ''), db.datcollate)
                IN ('C', 'POSIX')), false)
        FROM pg_index i, unnest(i.indkey::int2[]) k (num), pg_database db, pg_attribute a
            LEFT JOIN pg_collation c ON c.oid = a.attcollation
        WHERE i.indrelid = t.oid AND i.indisprimary AND a.attrelid = t.oid AND a.attnum = k.num
            AND db.datname = current_database()),
    'lengths', (SELECT json_agg(quote_ident(a.attname) ORDER BY a.attnum)
        FROM pg_attribute a
        WHERE a.attrelid = t.oid AND a.attnum > 0 AND NOT a.attisdropped
            AND a.atttypid IN ('text'::regtype, 'varchar'::regtype, 'bpchar'::regtype, 'bytea'::regtype)))
FROM pg_class t
WHERE t.oid = {{.table}}::regclass
