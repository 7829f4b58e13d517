package postgres

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"
)

// pointers warns of rows that name, in a column of type regclass, what is made after
// the rows: a view or an index. They cannot be loaded.
func (r *catalogReader) pointers(ctx context.Context) error {
	var queries []string
	err := r.rows(ctx, `SELECT format('SELECT %L, p.%I::regclass::text FROM ONLY %I.%I p JOIN pg_class c ON c.oid = p.%I::oid WHERE c.relkind IN (''v'', ''m'', ''i'', ''I'') AND c.oid >= 16384 LIMIT 1',
			format('%I.%I', n.nspname, c.relname), a.attname, n.nspname, c.relname, a.attname)
		FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE a.atttypid = 'regclass'::regtype AND a.attnum > 0 AND NOT a.attisdropped AND c.relkind = 'r' AND
			c.relpersistence <> 't' AND `+ours, func(rows pgx.Rows) error {
		var sql string
		err := rows.Scan(&sql)
		queries = append(queries, sql)
		return err
	})
	if err != nil {
		return err
	}
	for _, sql := range queries {
		err := r.rows(ctx, sql, func(rows pgx.Rows) error {
			var table, what string
			if err := rows.Scan(&table, &what); err != nil {
				return err
			}
			r.warns = append(r.warns,
				fmt.Sprintf("rows of %s name %s in a column of type regclass: they cannot be loaded, since that "+
					"is made after the rows; change the column's type to text", table, what))
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}
