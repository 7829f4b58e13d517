-- What a database is, read from the server's information tables without the program's own code. One query a line.
SELECT 'table', table_name, table_type, engine, row_format, table_collation, replace(create_options, 'page_checksum=1 ', ''), table_comment, auto_increment FROM information_schema.tables WHERE table_schema = database() AND table_type <> 'VIEW'
SELECT 'column', table_name, ordinal_position, column_name, replace(coalesce(column_default, '<none>'), '@@DATABASE@@', ''), is_nullable, column_type, collation_name, column_key, extra, column_comment, generation_expression FROM information_schema.columns WHERE table_schema = database()
SELECT 'key', table_name, index_name, non_unique, seq_in_index, column_name, collation, sub_part, index_type, index_comment, ignored FROM information_schema.statistics WHERE table_schema = database()
SELECT 'constraint', table_name, constraint_name, constraint_type FROM information_schema.table_constraints WHERE constraint_schema = database()
SELECT 'check', table_name, constraint_name, check_clause FROM information_schema.check_constraints WHERE constraint_schema = database()
SELECT 'reference', table_name, constraint_name, referenced_table_name, unique_constraint_name, match_option, update_rule, delete_rule FROM information_schema.referential_constraints WHERE constraint_schema = database()
SELECT 'referring', table_name, constraint_name, column_name, ordinal_position, referenced_table_name, referenced_column_name FROM information_schema.key_column_usage WHERE constraint_schema = database()
SELECT 'partition', table_name, partition_name, subpartition_name, partition_method, subpartition_method, partition_expression, partition_description, partition_comment FROM information_schema.partitions WHERE table_schema = database() AND partition_name IS NOT NULL
SELECT 'in parts', (SELECT count(*) FROM parted PARTITION (old)), (SELECT count(*) FROM listed PARTITION (a))
SELECT 'view', table_name, replace(view_definition, '`@@DATABASE@@`.', ''), check_option, is_updatable, definer, security_type, collation_connection, algorithm FROM information_schema.views WHERE table_schema = database()
SELECT 'trigger', trigger_name, event_manipulation, event_object_table, action_order, action_statement, action_timing, sql_mode, definer, collation_connection FROM information_schema.triggers WHERE trigger_schema = database()
SELECT 'routine', routine_name, routine_type, dtd_identifier, routine_definition, is_deterministic, sql_data_access, security_type, sql_mode, routine_comment, definer, collation_connection FROM information_schema.routines WHERE routine_schema = database()
SELECT 'parameter', specific_name, ordinal_position, parameter_mode, parameter_name, dtd_identifier, collation_name FROM information_schema.parameters WHERE specific_schema = database()
SELECT 'event', event_name, definer, time_zone, event_definition, event_type, interval_value, interval_field, sql_mode, starts, ends, status, on_completion, event_comment FROM information_schema.events WHERE event_schema = database()
SELECT 'schema', default_character_set_name, default_collation_name FROM information_schema.schemata WHERE schema_name = database()
SELECT 'sequence', next_not_cached_value, minimum_value, maximum_value, start_value, increment, cache_size, cycle_option, cycle_count FROM ticket
SELECT 'sequence 2', next_not_cached_value, increment FROM `odd ``seq`
SELECT 'history', id, fee, row_start, row_end FROM past FOR SYSTEM_TIME ALL
SELECT 'history 2', id, since, till FROM past2 FOR SYSTEM_TIME ALL
SELECT 'values', id, hex(f + 0e0), f + 0e0, f2 + 0e0, d, m, hex(b), bi, z, y, hex(bin), hex(vb), hex(bl), hex(g), st_srid(g), hex(p), j, tm, dt, ts, da, e + 0, e2 + 0, s + 0, hex(l1), hex(u16), hex(gb), hex(sj), hex(u4), i4, i6, u FROM `values`
SELECT 'odd', `a b`, hex(`c``d`), hex(`e)`), n FROM `Odd "Name`
