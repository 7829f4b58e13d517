package mysql

import (
	"context"
	"slices"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/pattern"
)

// onOne finds the table or routine that a right is about: its kind, database and name.
var onOne = pattern.Of(" ON ((?:[A-Z ]+ )?)(`(?:[^`]|``)*`)\\.(`(?:[^`]|``)*`) TO ")

// rights are what users and roles may do with single tables, columns and routines of this
// database. They go with it; the rights on whole databases are the server's.
func (r *catalogReader) rights(ctx context.Context) error {
	const of = "SELECT user, host FROM mysql."
	where := " WHERE db = " + literal(r.database)
	rows, err := r.c.rows(ctx, of+"tables_priv"+where+" UNION "+of+"columns_priv"+where+" UNION "+of+"procs_priv"+where+
		" ORDER BY 1, 2")
	if err != nil && ctx.Err() == nil {
		r.blind = true
		r.warns = append(r.warns, "this user may not read who has rights on single tables, columns and routines of "+
			r.database+": those rights are not part of the dump; 'grainkeep grants' prints what is needed")
		return nil
	}
	if err != nil {
		return err
	}
	for _, row := range rows {
		name := quote(row[0])
		if row[1] != "" {
			name += "@" + quote(row[1])
		}
		grants, err := r.c.rows(ctx, "SHOW GRANTS FOR "+name)
		if hasCode(err, codeNoGrants) {
			continue // rights of somebody who was dropped
		}
		if err != nil {
			return err
		}
		for _, g := range grants {
			m := onOne().FindStringSubmatch(g[0])
			if m == nil || m[2] != quote(r.database) {
				continue
			}
			on := r.granted(strings.ToLower(strings.TrimSpace(m[1])), m[3])
			if on == nil {
				continue // the server keeps rights on what is no longer there
			}
			r.add(engine.Object{Kind: "grants", Name: name + " on " + m[1] + m[3], Table: on.Table,
				Needs:   []string{on.ID()},
				Section: engine.Owners, Rule: true, Roles: []string{name},
				SQL: strings.Replace(g[0], m[2]+".", "", 1) + ";\n"})
		}
	}
	return nil
}

// granted finds what a right is on.
func (r *catalogReader) granted(kind, name string) *engine.Object {
	kinds := []string{kind}
	if kind == "" || kind == "table" {
		kinds = []string{"table", "view", "sequence"}
	}
	i := slices.IndexFunc(r.objects, func(o engine.Object) bool {
		return slices.Contains(kinds, o.Kind) && (o.Name == name || kind != "" && strings.EqualFold(o.Name, name))
	})
	if i < 0 {
		return nil
	}
	return &r.objects[i]
}
