-- Writes, for each table of the database, a query that gives its number of rows and a sum over all values.
SELECT hex(concat('SELECT ''rows'', ', quote(table_name), ', count(*), sum(crc32(concat_ws(''|'', ',
    group_concat('coalesce(', IF(data_type IN ('float', 'double'), concat('concat(`', replace(column_name, '`', '``'), '` + 0e0)'), concat('hex(concat(`', replace(column_name, '`', '``'), '`))')), ', ''NULL'')' ORDER BY ordinal_position),
    '))) FROM `', replace(table_name, '`', '``'), '`'))
FROM information_schema.columns JOIN information_schema.tables USING (table_schema, table_name)
WHERE table_schema = database() AND table_type IN ('BASE TABLE', 'SYSTEM VERSIONED') GROUP BY table_name
