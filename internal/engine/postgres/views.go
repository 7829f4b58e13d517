package postgres

import (
	"context"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
)

// views reads views and materialised views. A view that takes part in a circle is
// made as an outline first: its columns, with nothing in them.
func (r *catalogReader) views(ctx context.Context) error {
	populated := map[uint32]string{}
	settings := map[uint32]*table{}
	err := r.rows(ctx, `SELECT c.oid, c.relkind::text, c.reltype, coalesce((SELECT t.typarray FROM pg_type t WHERE t.oid = c.reltype), 0), format('%I.%I', n.nspname, c.relname),
		coalesce(array_to_string(c.reloptions, ', '), ''), pg_get_viewdef(c.oid), c.relispopulated,
		coalesce((SELECT string_agg(format('ALTER VIEW %I.%I ALTER COLUMN %I SET DEFAULT %s;', n.nspname, c.relname, a.attname, pg_get_expr(d.adbin, d.adrelid)), E'\n' ORDER BY a.attnum) || E'\n'
			FROM pg_attrdef d JOIN pg_attribute a ON a.attrelid = d.adrelid AND a.attnum = d.adnum WHERE d.adrelid = c.oid), ''),
		coalesce((SELECT quote_ident(a.amname) FROM pg_am a WHERE a.oid = c.relam AND a.amname <> 'heap'), ''),
		coalesce((SELECT quote_ident(s.spcname) FROM pg_tablespace s WHERE s.oid = c.reltablespace), ''),
		coalesce((SELECT string_agg(format('NULL::%s', format_type(a.atttypid, a.atttypmod)) ||
			CASE WHEN a.attcollation <> 0 AND a.attcollation <> t.typcollation THEN ' COLLATE ' || `+collationOf("a.attcollation")+` ELSE '' END || format(' AS %I', a.attname), ', ' ORDER BY a.attnum)
			FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid WHERE a.attrelid = c.oid AND a.attnum > 0), '')
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('v', 'm') AND `+ours+` AND `+notMember("pg_class", "c.oid"), func(rows pgx.Rows) error {
		var oid, rowType, array uint32
		var kind, name, options, defaults, method, tablespace, outline string
		var full bool
		var def *string
		if err := rows.Scan(&oid, &kind, &rowType, &array, &name, &options, &def, &full, &defaults, &method, &tablespace, &outline); err != nil {
			return err
		}
		body, err := define("view", name, def)
		if err != nil {
			return err
		}
		if options != "" {
			options = " WITH (" + options + ")"
		}
		r.alias[key{"pg_type", rowType}], r.alias[key{"pg_type", array}] = key{"pg_class", oid}, key{"pg_class", oid}
		if kind == "v" {
			n := r.add("pg_class", oid, rankView, engine.Object{Kind: "view", Name: name, Section: engine.Finish, SQL: "CREATE VIEW " + name + options + " AS\n" + body + "\n" + defaults})
			n.late = true
			n.stub = &engine.Object{Kind: "view outline", Name: name, Section: engine.Finish, SQL: "CREATE VIEW " + name + " AS SELECT " + outline + ";\n"}
			n.whole = "CREATE OR REPLACE VIEW " + name + options + " AS\n" + body + "\n" + defaults
			return nil
		}
		if method != "" {
			method = " USING " + method
		}
		self := r.add("pg_class", oid, rankView, engine.Object{Kind: "materialised view", Name: name, Section: engine.Finish,
			SQL: "CREATE MATERIALIZED VIEW " + name + method + options + " AS\n" + strings.TrimSuffix(body, ";") + "\nWITH NO DATA;\n"})
		self.late = true
		if tablespace != "" {
			r.also(rankAttach, engine.Object{Kind: "tablespace", Name: "materialised view " + name, Section: engine.Finish, Rule: true,
				SQL: "ALTER MATERIALIZED VIEW " + name + " SET TABLESPACE " + tablespace + ";\n"}, self.key).late = true
		}
		settings[oid] = &table{id: name}
		if full {
			populated[oid] = name
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
			n.obj.SQL += strings.Join(c.settings(t.id), "")
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
