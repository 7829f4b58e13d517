package postgres

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
)

// constraints are keys, checks and references. Checks come after the rows: one
// that the rows break, or whose function fails, must not keep them out.
func (r *catalogReader) constraints(ctx context.Context) error {
	return r.rows(ctx, `SELECT k.oid, k.contype::text, k.conrelid, k.confrelid, k.contypid, k.conindid, quote_ident(k.conname),
		CASE WHEN k.conrelid <> 0 THEN (SELECT format('%I.%I', cn.nspname, c.relname) FROM pg_class c JOIN pg_namespace cn ON cn.oid = c.relnamespace WHERE c.oid = k.conrelid)
			ELSE (SELECT format('%I.%I', tn.nspname, t.typname) FROM pg_type t JOIN pg_namespace tn ON tn.oid = t.typnamespace WHERE t.oid = k.contypid) END,
		pg_get_constraintdef(k.oid), k.convalidated
		FROM pg_constraint k JOIN pg_namespace n ON n.oid = k.connamespace
		WHERE k.contype IN ('p', 'u', 'c', 'f', 'x') AND `+ours+` AND `+notMember("pg_constraint", "k.oid")+`
		AND NOT EXISTS (SELECT FROM pg_depend x WHERE x.classid = 'pg_class'::regclass AND x.objid = k.conrelid AND x.deptype = 'e')`, func(rows pgx.Rows) error {
		var oid, table, other, domain, index uint32
		var kind, name string
		var on, def *string
		var validated bool
		if err := rows.Scan(&oid, &kind, &table, &other, &domain, &index, &name, &on, &def, &validated); err != nil {
			return err
		}
		if on == nil {
			def, on = nil, new(string)
		}
		body, err := define("constraint", name+" on "+*on, def)
		if err != nil {
			return err
		}
		r.addConstraint(oid, kind, name, *on, body, validated, table, other, domain, index)
		return nil
	})
}

func (r *catalogReader) addConstraint(oid uint32, kind, name, on, body string, validated bool, table, other, domain, index uint32) {
	o := engine.Object{Name: name + " on " + on, Table: r.tableID[table], Section: engine.Finish, Rule: true}
	head := "ALTER TABLE " + on + " ADD CONSTRAINT " + name + " "
	needs := []key{{"pg_class", table}}
	rank := rankKey
	switch kind {
	case "p", "u":
		o.Kind, o.Section = map[string]string{"p": "primary key", "u": "unique key"}[kind], engine.Keys
	case "x":
		o.Kind = "exclusion constraint"
	case "c":
		o.Kind, rank = "check", rankCheck
		if domain != 0 {
			o.Name = name + " on domain " + on
			head = "ALTER DOMAIN " + on + " ADD CONSTRAINT " + name + " "
			needs = []key{{"pg_type", domain}}
		}
	case "f":
		o.Kind, rank = "foreign key", rankReference
		needs = append(needs, key{"pg_class", other})
	}
	o.SQL = head + body + ";\n"
	if validated && (kind == "c" || kind == "f") {
		o.Unchecked = head + body + " NOT VALID;\n"
	}
	n := r.add("pg_constraint", oid, rank, o, needs...)
	n.late = o.Section == engine.Finish
	if index != 0 && kind != "f" {
		r.alias[key{"pg_class", index}] = n.key // what needs the index needs the key
	}
}

func (r *catalogReader) indexes(ctx context.Context) error {
	return r.rows(ctx, `SELECT i.indexrelid, i.indrelid, format('%I.%I', n.nspname, c.relname), i.indisunique, i.indisvalid, i.indisreplident, i.indisclustered,
		pg_get_indexdef(i.indexrelid), quote_ident(c.relname),
		EXISTS (SELECT FROM pg_constraint k WHERE k.conindid = i.indexrelid AND k.contype IN ('p', 'u', 'x'))
		FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		JOIN pg_class t ON t.oid = i.indrelid
		WHERE t.relkind = 'r' AND t.relpersistence <> 't' AND `+ours+` AND `+notMember("pg_class", "t.oid"), func(rows pgx.Rows) error {
		var oid, table uint32
		var name, short string
		var unique, valid, identity, clustered, constraint bool
		var def *string
		if err := rows.Scan(&oid, &table, &name, &unique, &valid, &identity, &clustered, &def, &short, &constraint); err != nil {
			return err
		}
		on := r.tableID[table]
		if !valid {
			r.warns = append(r.warns, fmt.Sprintf("index %s on %s is invalid on the server and is left out", name, on))
			return nil
		}
		body, err := define("index", name, def)
		if err != nil {
			return err
		}
		self := key{"pg_class", oid}
		if !constraint {
			o := engine.Object{Kind: "index", Name: name, Table: on, Section: engine.Finish, SQL: body + ";\n", Rule: true}
			if unique {
				o.Kind, o.Section = "unique index", engine.Keys
			}
			r.add("pg_class", oid, rankIndex, o, key{"pg_class", table}).late = !unique
		}
		if identity {
			r.also(rankIdentity, engine.Object{Kind: "replica identity", Name: on, Table: on, Section: engine.Finish,
				SQL: "ALTER TABLE " + on + " REPLICA IDENTITY USING INDEX " + short + ";\n"}, self)
		}
		if clustered {
			r.also(rankIdentity, engine.Object{Kind: "cluster mark", Name: name, Table: on, Section: engine.Finish,
				SQL: "ALTER TABLE " + on + " CLUSTER ON " + short + ";\n"}, self)
		}
		return nil
	})
}
