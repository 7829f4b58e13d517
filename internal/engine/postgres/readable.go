package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/fault"
)

// unreadable are the kinds of things that a user may be unable to read, or could
// read only in part.
var unreadable = []struct{ what, sql string }{
	{"schemas", `SELECT quote_ident(n.nspname) FROM pg_namespace n WHERE ` + ours +
		` AND NOT has_schema_privilege(n.oid, 'USAGE')`},
	{"tables", `SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid =
		c.relnamespace
		WHERE c.relkind = 'r' AND c.relpersistence <> 't' AND ` + ours + ` AND NOT has_table_privilege(c.oid,
			'SELECT')`},
	{"sequences", `SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid =
		c.relnamespace
		WHERE c.relkind = 'S' AND c.relpersistence <> 't' AND ` + ours + ` AND NOT has_table_privilege(c.oid,
			'SELECT')`},
	{largeObjects, `SELECT l.oid::text FROM pg_largeobject_metadata l WHERE NOT (pg_has_role(l.lomowner, 'USAGE')
		OR EXISTS (SELECT FROM aclexplode(l.lomacl) x WHERE x.privilege_type = 'SELECT' AND (x.grantee = 0 OR
			pg_has_role(x.grantee, 'USAGE')))
		OR EXISTS (SELECT FROM pg_roles WHERE rolname = current_user AND rolsuper))`},
	{"tables whose row security would hide rows (it takes ALTER ROLE … BYPASSRLS)", `SELECT format('%I.%I',
		n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r', 'p') AND c.relrowsecurity AND row_security_active(c.oid) AND ` + ours},
}

const largeObjects = "large objects"

// grantObjects is the statement that lets a user read large objects: there is no right on
// all of them.
func grantObjects(oids []string, user string) string {
	if len(oids) <= 12 {
		return "GRANT SELECT ON LARGE OBJECT " + strings.Join(oids, ", ") + " TO " + quote(user)
	}
	return "DO $$ DECLARE o oid; BEGIN FOR o IN SELECT oid FROM pg_largeobject_metadata LOOP " +
		"EXECUTE format('GRANT SELECT ON LARGE OBJECT %s TO " + strings.ReplaceAll(quote(user), "%", "%%") +
		"', o); END LOOP; END $$"
}

// readable fails, before anything is locked or written, with the names of all that
// this user could not read whole.
func (p *snapshot) readable(ctx context.Context) error {
	var found, objects []string
	for _, u := range unreadable {
		rows, err := p.c.Query(ctx, u.sql+" ORDER BY 1")
		if err != nil {
			return err
		}
		names, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			return err
		}
		if len(names) > 0 {
			found = append(found, u.what+": "+list(names))
		}
		if u.what == largeObjects {
			objects = names
		}
	}
	if len(found) == 0 {
		return nil
	}
	e := fault.New("rights-missing", nil, "in %s, this user may not read the %s", p.database, strings.Join(found, "; "))
	if len(found) == 1 && len(objects) > 0 {
		return e.Advise("as an administrator, in that database: %s", grantObjects(objects, p.s.userName()))
	}
	return e.Advise("'grainkeep grants' prints the SQL that gives this user what a dump needs")
}

// list names some things, and counts the rest.
func list(names []string) string {
	const shown = 12
	if len(names) <= shown {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:shown], ", "), len(names)-shown)
}
