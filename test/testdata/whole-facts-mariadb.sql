-- What the database of whole-mariadb.sql holds, as it reads it itself. One query a line.
SELECT 'in parts', (SELECT count(*) FROM parted PARTITION (old)), (SELECT count(*) FROM listed PARTITION (a))
SELECT 'sequence', next_not_cached_value, minimum_value, maximum_value, start_value, increment, cache_size, cycle_option, cycle_count FROM ticket
SELECT 'sequence 2', next_not_cached_value, increment FROM `odd ``seq`
SELECT 'history', id, fee, row_start, row_end FROM past FOR SYSTEM_TIME ALL
SELECT 'history 2', id, since, till FROM past2 FOR SYSTEM_TIME ALL
SELECT 'values', id, hex(f + 0e0), f + 0e0, f2 + 0e0, d, m, hex(b), bi, z, y, hex(bin), hex(vb), hex(bl), hex(g), st_srid(g), hex(p), j, tm, dt, ts, da, e + 0, e2 + 0, s + 0, hex(l1), hex(u16), hex(gb), hex(sj), hex(u4), i4, i6, u FROM `values`
SELECT 'odd', `a b`, hex(`c``d`), hex(`e)`), n FROM `Odd "Name`
SELECT 'history 3', id, length(t), md5(t), row_start, row_end FROM long_past FOR SYSTEM_TIME ALL
