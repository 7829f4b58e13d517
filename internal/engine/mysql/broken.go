package mysql

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/pattern"
)

// Errors about what stands there and cannot be used: a view of something that is gone, a
// table that is a union of such.
const (
	codeBrokenView  = 1356
	codeBrokenUnion = 1168
)

// broken says why a view cannot be used; empty, if it can.
func (r *catalogReader) broken(ctx context.Context, view string) (string, error) {
	_, err := r.c.rows(ctx, "SELECT 1 FROM "+view+" LIMIT 0")
	if hasCode(err, codeBrokenView, codeNoDatabase) {
		return err.Error(), nil
	}
	if err != nil && ctx.Err() != nil {
		return "", context.Cause(ctx)
	}
	return "", nil //nolint:nilerr // whether this user may use it is another matter
}

// from finds the tables that a view reads, as the server writes it, with their other names.
var from = pattern.Of("(?:from|join|,) \\(*(`(?:[^`]|``)*`)(?: (`(?:[^`]|``)*`))?")

// brokenViews makes views that are broken on the server as broken as they are: while they
// are made, stand-ins have the names and columns of what is gone.
func (r *catalogReader) brokenViews(views []engine.Object, text map[string]string, there func(name string) bool) {
	if len(views) == 0 {
		return
	}
	columns := map[string][]string{} // of what is gone
	var gone, names []string
	for _, v := range views {
		names = append(names, v.Name)
		for _, m := range from().FindAllStringSubmatch(text[v.Name], -1) {
			table, other := m[1], m[2]
			if there(table) {
				continue
			}
			if !slices.Contains(gone, table) {
				gone = append(gone, table)
			}
			if other == "" {
				other = table
			}
			of := regexp.MustCompile(asIs(other) + "\\.(`(?:[^`]|``)*`)")
			for _, c := range of.FindAllStringSubmatch(text[v.Name], -1) {
				if !slices.Contains(columns[table], c[1]) {
					columns[table] = append(columns[table], c[1])
				}
			}
		}
	}
	var b, drop strings.Builder
	b.WriteString("SET sql_mode = '';\n")
	for _, t := range gone {
		list := columns[t]
		if len(list) == 0 {
			list = []string{"`stand_in`"}
		}
		fmt.Fprintf(&b, "CREATE TABLE %s (%s int);\n", t, strings.Join(list, " int, "))
		fmt.Fprintf(&drop, "DROP TABLE %s;\n", t)
	}
	o := engine.Object{Kind: "broken views", Name: strings.Join(names, ", "), Section: engine.Active, Rule: true,
		Note: "came back as broken as they were"}
	for _, v := range views {
		b.WriteString(v.SQL)
		o.Roles = append(o.Roles, v.Roles...)
	}
	o.SQL = b.String() + drop.String()
	r.add(o)
}
