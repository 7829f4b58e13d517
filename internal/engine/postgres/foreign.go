package postgres

import (
	"context"
	"fmt"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/pattern"
)

// optionList is SQL for OPTIONS (…) of a column that holds name=value.
func optionList(column string) string {
	return `coalesce((SELECT ' OPTIONS (' || string_agg(format('%I %L', option_name, option_value), ', ') || ')'
		FROM pg_options_to_table(` + column + `)), '')`
}

// userMappingsRow is a row of user_mappings.sql.
type userMappingsRow struct {
	OID, Server uint32
	Name, User  string
	Given       []string
}

// foreign reads wrappers, servers and user mappings. Passwords in a mapping are
// secrets: they are left out, by name.
func (r *catalogReader) foreign(ctx context.Context) error {
	for _, s := range []simple{
		{class: "pg_foreign_data_wrapper", kind: "foreign data wrapper", rank: rankOperator,
			query: "foreign_data_wrappers"},
		{class: "pg_foreign_server", kind: "foreign server", rank: rankFamily, query: "foreign_servers"},
	} {
		if err := r.simple(ctx, s); err != nil {
			return err
		}
	}
	// The view hides the options from whom they do not concern; the catalog itself is
	// for those who may read everything.
	var hidden bool
	if err := r.c.QueryRow(ctx,
		"SELECT NOT has_table_privilege('pg_user_mapping', 'SELECT')").Scan(&hidden); err != nil {
		return err
	}
	return eachOf(ctx, r, "user_mappings", map[string]string{"hidden": yes(hidden)}, func(x *userMappingsRow) error {
		if hidden && len(x.Given) == 0 {
			r.warns = append(r.warns,
				fmt.Sprintf("the options of the user mapping of %s on %s, if it has any, are hidden from this "+
					"user: set them again after a restore", everybodyOr(x.User), x.Name))
		}
		who, roles := "PUBLIC", []string(nil)
		if x.User != "" {
			who, roles = x.User, []string{x.User}
		}
		var list []string
		for _, g := range x.Given {
			option, value, _ := strings.Cut(g, "=")
			if secretOption().MatchString(option) && option != "password_required" {
				r.warns = append(r.warns,
					fmt.Sprintf("the option %s of the user mapping of %s on %s is a secret and is left out: set "+
						"it again after a restore", option, who, x.Name))
				continue
			}
			list = append(list, quote(option)+" "+literal(value))
		}
		sql := "CREATE USER MAPPING FOR " + who + " SERVER " + x.Name
		if len(list) > 0 {
			sql += " OPTIONS (" + strings.Join(list, ", ") + ")"
		}
		r.add("pg_user_mapping", x.OID, rankClass, engine.Object{Kind: "user mapping", Name: who + " on " + x.Name,
			Section: engine.Schema, SQL: sql + ";\n", Roles: roles},
			key{"pg_foreign_server", x.Server})
		return nil
	})
}

func everybodyOr(user string) string {
	if user == "" {
		return "everybody"
	}
	return user
}

var secretOption = pattern.Of(`(?i)password|secret|token|passcode|credential|key$`)
