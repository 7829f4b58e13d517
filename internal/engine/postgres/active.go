package postgres

import (
	"context"
	"fmt"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/pattern"
)

// active reads what acts by itself once it is there: event triggers, publications,
// subscriptions, settings of the database. It comes last, and not in a drill.
func (r *catalogReader) active(ctx context.Context) error {
	err := r.simple(ctx, simple{class: "pg_event_trigger", kind: "event trigger", rank: rankWatching,
		section: engine.Active, rule: true,
		query: "event_triggers"})
	if err != nil {
		return err
	}
	for _, step := range []func(context.Context) error{r.publications, r.subscriptions, r.databaseSettings, r.itself} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

func (r *catalogReader) publications(ctx context.Context) error {
	return r.simple(ctx, simple{class: "pg_publication", kind: "publication", rank: rankActive,
		section: engine.Active, rule: true,
		query: "publications"})
}

var inConninfo = pattern.Of(`(?i)\s*\b(password|passfile|sslpassword)\s*=\s*('(?:[^'\\]|\\.)*'|\S+)`)

// subscriptionsRow is a row of subscriptions.sql.
type subscriptionsRow struct {
	OID                                          uint32
	Name, Conn, Publications, Slot, Commit, More string
	Enabled                                      bool
}

// subscriptions come back disabled and without a slot of their own at the other
// server. Only an administrator may read where they connect to.
func (r *catalogReader) subscriptions(ctx context.Context) error {
	var connection string
	err := r.c.QueryRow(ctx,
		"SELECT CASE WHEN has_column_privilege('pg_subscription', 'subconninfo', 'SELECT') THEN 's.subconninfo' "+
			"ELSE '''''' END").Scan(&connection)
	if err != nil {
		return err
	}
	return eachOf(ctx, r, "subscriptions", map[string]string{"connection": connection},
		func(x *subscriptionsRow) error {
			switch {
			case x.Conn == "":
				r.warns = append(r.warns,
					"this user may not read where the subscription "+x.Name+" connects to: set its connection after a "+
						"restore")
			case inConninfo().MatchString(x.Conn):
				r.warns = append(r.warns,
					"the password of the subscription "+x.Name+" is a secret and is left out: set its connection "+
						"after a restore")
				x.Conn = strings.TrimSpace(inConninfo().ReplaceAllString(x.Conn, ""))
			}
			r.add("pg_subscription", x.OID, rankActive, engine.Object{Kind: "subscription", Name: x.Name,
				Section: engine.Active, Rule: true,
				Note: "comes back disabled", SQL: fmt.Sprintf("CREATE SUBSCRIPTION %s CONNECTION %s PUBLICATION %s "+
					"WITH (connect = false, slot_name = %s, synchronous_commit = %s%s);\n",
					x.Name, literal(x.Conn), x.Publications, x.Slot, quoteLiteral(x.Commit), x.More)})
			return nil
		})
}

func quoteLiteral(s string) string { return strings.TrimSpace(literal(s)) }

func settingName(name string) string {
	parts := strings.Split(name, ".")
	for i, p := range parts {
		parts[i] = quote(p)
	}
	return strings.Join(parts, ".")
}

// listSettings hold lists of names, which are not written as one text.
var listSettings = map[string]bool{"datestyle": true, "local_preload_libraries": true, "search_path": true,
	"session_preload_libraries": true,
	"shared_preload_libraries":  true, "temp_tablespaces": true, "unix_socket_directories": true,
	"createrole_self_grant": true}

func settingValue(name, value string) string {
	if !listSettings[strings.ToLower(name)] {
		return quoteLiteral(value)
	}
	if strings.TrimSpace(value) == "" {
		return "''"
	}
	// The stored text is a list of names, quoted where they need it: each is a text here.
	var items []string
	for _, m := range listItem().FindAllString(value, -1) {
		if strings.HasPrefix(m, `"`) {
			m = strings.ReplaceAll(m[1:len(m)-1], `""`, `"`)
		}
		items = append(items, quoteLiteral(strings.TrimSpace(m)))
	}
	return strings.Join(items, ", ")
}

var listItem = pattern.Of(`"(?:[^"]|"")*"|[^",\s][^",]*`)
