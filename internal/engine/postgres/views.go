package postgres

import (
	"context"
	"strings"

	"grainkeep/internal/engine"
)

// viewsRow is a row of views.sql.
type viewsRow struct {
	OID, RowType, Array                                        uint32
	Kind, Name, Options, Defaults, Method, Tablespace, Outline string
	Def                                                        *string
	Full                                                       bool
}

// views reads views and materialised views. A view that takes part in a circle is
// made as an outline first: its columns, with nothing in them.
func (r *catalogReader) views(ctx context.Context) error {
	populated := map[uint32]string{}
	settings := map[uint32]*table{}
	err := each(ctx, r, "views", func(x *viewsRow) error {
		body, err := define("view", x.Name, x.Def)
		if err != nil {
			return err
		}
		if x.Options != "" {
			x.Options = " WITH (" + x.Options + ")"
		}
		r.alias[key{"pg_type", x.RowType}], r.alias[key{"pg_type", x.Array}] = key{"pg_class", x.OID}, key{"pg_class",
			x.OID}
		if x.Kind == "v" {
			n := r.add("pg_class", x.OID, rankView, engine.Object{Kind: "view", Name: x.Name, Section: engine.Finish,
				SQL: "CREATE VIEW " + x.Name + x.Options + " AS\n" + body + "\n" + x.Defaults})
			n.late = true
			n.stub = &engine.Object{Kind: "view outline", Name: x.Name, Section: engine.Finish, SQL: "CREATE VIEW " +
				x.Name + " AS SELECT " + x.Outline + ";\n"}
			n.whole = "CREATE OR REPLACE VIEW " + x.Name + x.Options + " AS\n" + body + "\n" + x.Defaults
			return nil
		}
		if x.Method != "" {
			x.Method = " USING " + x.Method
		}
		self := r.add("pg_class", x.OID, rankView, engine.Object{Kind: "materialised view", Name: x.Name,
			Section: engine.Finish, Note: "is made anew from its query: its rows are not dumped",
			SQL: "CREATE MATERIALIZED VIEW " + x.Name + x.Method + x.Options + " AS\n" + strings.TrimSuffix(body,
				";") + "\nWITH NO DATA;\n"})
		self.late = true
		if x.Tablespace != "" {
			r.also(rankAttach, engine.Object{Kind: "tablespace", Name: "materialised view " + x.Name,
				Section: engine.Finish, Rule: true,
				SQL: "ALTER MATERIALIZED VIEW " + x.Name + " SET TABLESPACE " + x.Tablespace + ";\n"},
				self.key).late = true
		}
		settings[x.OID] = &table{ID: x.Name}
		if x.Full {
			populated[x.OID] = x.Name
		}
		return nil
	})
	if err != nil {
		return err
	}
	for oid, name := range populated {
		r.add("+rows", oid, rankRefresh, engine.Object{Kind: "refresh", Name: name, Section: engine.Finish, Rule: true,
			SQL: "REFRESH MATERIALIZED VIEW " + name + ";\n"}, key{"pg_class", oid}).late = true
	}
	if err := r.columns(ctx, settings); err != nil {
		return err
	}
	for oid, t := range settings {
		n := r.nodes[key{"pg_class", oid}]
		for _, c := range t.columns {
			n.obj.SQL += strings.Join(c.settings(t.ID), "")
		}
	}
	return nil
}

// refreshes orders the filling of materialised views: one that reads another, be it
// through views and functions, comes after it; indexes come after the rows.
func (r *catalogReader) refreshes() {
	for k, n := range r.nodes {
		if k.class != "+rows" {
			continue
		}
		seen := map[*node]bool{}
		var reach func(m *node)
		reach = func(m *node) {
			for _, need := range m.needs {
				other := r.needed(need)
				if other == nil || seen[other] {
					continue
				}
				seen[other] = true
				if rows := r.nodes[key{"+rows", other.oid}]; rows != nil && other.class == "pg_class" && rows != n {
					n.needs = append(n.needs, rows.key)
				}
				reach(other)
			}
		}
		reach(r.nodes[key{"pg_class", k.oid}])
	}
	for _, n := range r.nodes {
		if n.rank == rankIndex {
			for _, need := range n.needs {
				if rows := r.nodes[key{"+rows", need.oid}]; need.class == "pg_class" && rows != nil {
					n.needs = append(n.needs, rows.key)
				}
			}
		}
	}
}
