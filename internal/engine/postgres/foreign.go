package postgres

import (
	"context"
	"fmt"
	"regexp"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
)

// optionList is SQL for OPTIONS (…) of a column that holds name=value.
func optionList(column string) string {
	return `coalesce((SELECT ' OPTIONS (' || string_agg(format('%I %L', option_name, option_value), ', ') || ')' FROM pg_options_to_table(` + column + `)), '')`
}

// foreign reads wrappers, servers and user mappings. Passwords in a mapping are
// secrets: they are left out, by name.
func (r *catalogReader) foreign(ctx context.Context) error {
	for _, s := range []simple{
		{class: "pg_foreign_data_wrapper", kind: "foreign data wrapper", rank: rankOperator, query: `SELECT w.oid, quote_ident(w.fdwname), format('CREATE FOREIGN DATA WRAPPER %I', w.fdwname)
			|| CASE WHEN w.fdwhandler <> 0 THEN ' HANDLER ' || w.fdwhandler::regproc::text ELSE '' END || CASE WHEN w.fdwvalidator <> 0 THEN ' VALIDATOR ' || w.fdwvalidator::regproc::text ELSE '' END
			|| ` + optionList("w.fdwoptions") + ` FROM pg_foreign_data_wrapper w WHERE ` + notMember("pg_foreign_data_wrapper", "w.oid")},
		{class: "pg_foreign_server", kind: "foreign server", rank: rankFamily, query: `SELECT s.oid, quote_ident(s.srvname), format('CREATE SERVER %I', s.srvname) || coalesce(format(' TYPE %L', s.srvtype), '')
			|| coalesce(format(' VERSION %L', s.srvversion), '') || format(' FOREIGN DATA WRAPPER %I', w.fdwname) || ` + optionList("s.srvoptions") + `
			FROM pg_foreign_server s JOIN pg_foreign_data_wrapper w ON w.oid = s.srvfdw WHERE ` + notMember("pg_foreign_server", "s.oid")},
	} {
		if err := r.simple(ctx, s); err != nil {
			return err
		}
	}
	// The view hides the options from whom they do not concern; the catalog itself is
	// for those who may read everything.
	var hidden bool
	if err := r.c.QueryRow(ctx, "SELECT NOT has_table_privilege('pg_user_mapping', 'SELECT')").Scan(&hidden); err != nil {
		return err
	}
	from := `(SELECT u.oid umid, u.umserver srvid, s.srvname, u.umuser, a.rolname usename, u.umoptions FROM pg_user_mapping u
		JOIN pg_foreign_server s ON s.oid = u.umserver LEFT JOIN pg_roles a ON a.oid = u.umuser)`
	if hidden {
		from = "pg_user_mappings"
	}
	return r.rows(ctx, `SELECT m.umid, m.srvid, quote_ident(m.srvname), CASE WHEN m.umuser = 0 THEN '' ELSE quote_ident(m.usename) END,
		coalesce((SELECT array_agg(option_name::text || '=' || option_value ORDER BY n) FROM pg_options_to_table(m.umoptions) WITH ORDINALITY o(option_name, option_value, n)), '{}')
		FROM `+from+` m`, func(rows pgx.Rows) error {
		var oid, server uint32
		var name, user string
		var given []string
		if err := rows.Scan(&oid, &server, &name, &user, &given); err != nil {
			return err
		}
		if hidden && len(given) == 0 {
			r.warns = append(r.warns, fmt.Sprintf("the options of the user mapping of %s on %s, if it has any, are hidden from this user: set them again after a restore", everybodyOr(user), name))
		}
		who, roles := "PUBLIC", []string(nil)
		if user != "" {
			who, roles = user, []string{user}
		}
		var list []string
		for _, g := range given {
			option, value, _ := strings.Cut(g, "=")
			if secretOption.MatchString(option) {
				r.warns = append(r.warns, fmt.Sprintf("the option %s of the user mapping of %s on %s is a secret and is left out: set it again after a restore", option, who, name))
				continue
			}
			list = append(list, quote(option)+" "+literal(value))
		}
		sql := "CREATE USER MAPPING FOR " + who + " SERVER " + name
		if len(list) > 0 {
			sql += " OPTIONS (" + strings.Join(list, ", ") + ")"
		}
		r.add("pg_user_mapping", oid, rankClass, engine.Object{Kind: "user mapping", Name: who + " on " + name, Section: engine.Schema, SQL: sql + ";\n", Roles: roles},
			key{"pg_foreign_server", server})
		return nil
	})
}

func everybodyOr(user string) string {
	if user == "" {
		return "everybody"
	}
	return user
}

var secretOption = regexp.MustCompile(`(?i)password|secret|token|passcode|credential|key$`)
