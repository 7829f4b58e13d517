package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/fault"
)

// readable fails with the name of every table and large object that this user
// could read only in part, or not at all.
func (r *catalogReader) readable(ctx context.Context) error {
	var found []string
	collect := func(sql string) error {
		return r.rows(ctx, sql, func(rows pgx.Rows) error {
			var name string
			err := rows.Scan(&name)
			found = append(found, name)
			return err
		})
	}
	err := collect(`SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r', 'p') AND c.relrowsecurity AND row_security_active(c.oid) AND ` + ours + ` ORDER BY 1`)
	if err == nil && len(found) > 0 {
		return fault.New("row-security", nil, "row security would hide rows from this user in %s", list(found)).
			Advise("give it the right to bypass that: ALTER ROLE … BYPASSRLS ('grainkeep grants' prints it)")
	}
	if err == nil {
		err = collect(`SELECT l.oid::text FROM pg_largeobject_metadata l WHERE NOT (pg_has_role(l.lomowner, 'USAGE')
			OR EXISTS (SELECT FROM aclexplode(l.lomacl) x WHERE x.privilege_type = 'SELECT' AND (x.grantee = 0 OR pg_has_role(x.grantee, 'USAGE')))
			OR EXISTS (SELECT FROM pg_roles WHERE rolname = current_user AND rolsuper)) ORDER BY l.oid LIMIT 1000`)
	}
	if err == nil && len(found) > 0 {
		return fault.New("rights-missing", nil, "this user may not read the large objects %s", list(found)).
			Advise("'grainkeep grants' prints the SQL that gives it the right")
	}
	return err
}

// list names some things, and counts the rest.
func list(names []string) string {
	const shown = 12
	if len(names) <= shown {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:shown], ", "), len(names)-shown)
}
