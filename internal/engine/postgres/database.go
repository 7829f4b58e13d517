package postgres

import (
	"context"
	"fmt"
	"strings"

	"grainkeep/internal/engine"
)

// here stands for the database's name in statements about itself; no name can hold it.
const here = "\x00"

// aboutItself writes statements about the database that they run in, whatever it is called.
func aboutItself(sql string) string {
	text := strings.ReplaceAll(strings.ReplaceAll(sql, "%", "%%"), here, "%1$I")
	return "DO " + quoteLiteral("BEGIN EXECUTE format("+quoteLiteral(text)+", current_database()); END") + ";\n"
}

// databaseRow is a row of database.sql.
type databaseRow struct {
	Owner    string
	Limit    int
	Template bool
}

// itself reads who owns the database, what others may do with it, and its limits.
func (r *catalogReader) itself(ctx context.Context) error {
	err := each(ctx, r, "database", func(x *databaseRow) error {
		r.also(rankOwner, engine.Object{Kind: "owner", Name: "of the database", Section: engine.Owners, Rule: true,
			OfDatabase: true, Roles: []string{x.Owner}, SQL: aboutItself("ALTER DATABASE " + here + " OWNER TO " +
				x.Owner)})
		if x.Template {
			r.itselfSet("IS_TEMPLATE", "true")
		}
		if x.Limit != -1 {
			r.itselfSet("CONNECTION LIMIT", fmt.Sprint(x.Limit))
		}
		return nil
	})
	if err != nil {
		return err
	}
	return r.rightsOf(ctx, "DATABASE", "SELECT '', datdba, datacl FROM pg_database WHERE datname = current_database()",
		engine.Owners)
}

func (r *catalogReader) itselfSet(what, value string) {
	r.also(rankWatching, engine.Object{Kind: "limit", Name: strings.ToLower(what) + " of the database",
		Section: engine.Active,
		Rule:    true, OfDatabase: true, SQL: aboutItself("ALTER DATABASE " + here + " " + what + " " + value)})
}

// databaseSettingsRow is a row of database_settings.sql.
type databaseSettingsRow struct {
	Role, Setting string
}

// databaseSettings are what ALTER DATABASE … SET said, and ALTER ROLE … IN DATABASE.
func (r *catalogReader) databaseSettings(ctx context.Context) error {
	return each(ctx, r, "database_settings", func(x *databaseSettingsRow) error {
		name, value, _ := strings.Cut(x.Setting, "=")
		o := engine.Object{Kind: "setting", Name: name, Section: engine.Active, Rule: true}
		what := "ALTER DATABASE " + here
		if x.Role != "" {
			o.Name, o.Roles = name+" of "+x.Role, []string{x.Role}
			what = "ALTER ROLE " + x.Role + " IN DATABASE " + here
		}
		o.SQL = aboutItself(what + " SET " + settingName(name) + " TO " + settingValue(name, value))
		r.also(rankActive, o)
		return nil
	})
}
