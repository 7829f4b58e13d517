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
		pg_get_constraintdef(k.oid), k.convalidated, coalesce((SELECT c.relkind = 'p' FROM pg_class c WHERE c.oid = k.conrelid), false),
		coalesce((SELECT bool_or(c.relhassubclass) FROM pg_class c WHERE c.oid IN (k.conrelid, k.confrelid)), false), k.conparentid
		FROM pg_constraint k JOIN pg_namespace n ON n.oid = k.connamespace
		WHERE k.contype IN ('p', 'u', 'c', 'f', 'x') AND NOT (k.contype = 'c' AND k.conrelid <> 0 AND NOT k.conislocal)
		AND NOT EXISTS (SELECT FROM pg_constraint p WHERE p.oid = k.conparentid AND p.conrelid = k.conrelid) AND `+ours+` AND `+notMember("pg_constraint", "k.oid")+`
		AND NOT EXISTS (SELECT FROM pg_depend x WHERE x.classid = 'pg_class'::regclass AND x.objid = k.conrelid AND x.deptype = 'e')`, func(rows pgx.Rows) error {
		var k constraint
		var on, def *string
		if err := rows.Scan(&k.oid, &k.kind, &k.table, &k.other, &k.domain, &k.index, &k.name, &on, &def, &k.validated, &k.partitioned, &k.tree, &k.parent); err != nil {
			return err
		}
		if on == nil {
			def, on = nil, new(string)
		}
		var err error
		k.on = *on
		if k.body, err = define("constraint", k.name+" on "+k.on, def); err != nil {
			return err
		}
		r.addConstraint(&k)
		return nil
	})
}

// constraint is one under construction.
type constraint struct {
	oid, table, other, domain, index, parent uint32
	kind, name, on, body                     string
	validated, partitioned, tree             bool // tree: of a table that others inherit from
}

// addConstraint adds it where it was made. On a partitioned table, keys are added to
// the leaves first and their indexes attached; foreign keys find those of the leaves.
func (r *catalogReader) addConstraint(k *constraint) {
	o := engine.Object{Name: k.name + " on " + k.on, Table: r.tableID[k.table], Section: engine.Finish, Rule: true}
	head := "ALTER TABLE " + k.on + " ADD CONSTRAINT " + k.name + " "
	needs := []key{{"pg_class", k.table}}
	rank := rankKey
	switch k.kind {
	case "p", "u", "x":
		o.Kind = map[string]string{"p": "primary key", "u": "unique key", "x": "exclusion constraint"}[k.kind]
		if k.kind != "x" {
			o.Section = engine.Keys
		}
		if k.partitioned {
			head = "ALTER TABLE ONLY " + k.on + " ADD CONSTRAINT " + k.name + " "
		}
	case "c":
		o.Kind, rank = "check", rankCheck
		if k.domain != 0 {
			o.Name = k.name + " on domain " + k.on
			head = "ALTER DOMAIN " + k.on + " ADD CONSTRAINT " + k.name + " "
			needs = []key{{"pg_type", k.domain}}
		}
	case "f":
		o.Kind, rank = "foreign key", rankReference
		needs = append(needs, key{"pg_class", k.other})
	}
	o.SQL = head + k.body + ";\n"
	if k.validated && (k.kind == "c" || k.kind == "f" && !k.partitioned) {
		o.Unchecked = head + k.body + " NOT VALID;\n"
	}
	if k.domain == 0 && !k.partitioned && !k.tree {
		o.Beside, o.Locks = engine.Alone, []string{r.tableID[k.table]}
		if k.kind == "f" {
			o.Locks = append(o.Locks, r.tableID[k.other])
		}
	}
	n := r.add("pg_constraint", k.oid, rank, o, needs...)
	n.late = o.Section == engine.Finish
	if k.kind == "f" && k.parent != 0 {
		r.children[key{"pg_constraint", k.parent}] = append(r.children[key{"pg_constraint", k.parent}], n.key)
	}
	if k.index != 0 && k.kind != "f" {
		r.alias[key{"pg_class", k.index}] = n.key // what needs the index needs the key
	}
}

func (r *catalogReader) indexes(ctx context.Context) error {
	err := r.rows(ctx, `SELECT i.indexrelid, i.indrelid, format('%I.%I', n.nspname, c.relname), i.indisunique, i.indisvalid OR c.relkind = 'I', i.indisreplident, i.indisclustered,
		pg_get_indexdef(i.indexrelid), quote_ident(c.relname),
		EXISTS (SELECT FROM pg_constraint k WHERE k.conindid = i.indexrelid AND k.contype IN ('p', 'u', 'x')),
		coalesce((SELECT quote_ident(s.spcname) FROM pg_tablespace s WHERE s.oid = c.reltablespace), ''),
		coalesce((SELECT string_agg(format(E'ALTER INDEX %I.%I ALTER COLUMN %s SET STATISTICS %s;\n', n.nspname, c.relname, a.attnum, a.attstattarget), '' ORDER BY a.attnum)
			FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attstattarget >= 0), ''), format('%I.%I', tn.nspname, t.relname), c.relkind = 'i'
		FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		JOIN pg_class t ON t.oid = i.indrelid JOIN pg_namespace tn ON tn.oid = t.relnamespace
		WHERE t.relkind IN ('r', 'p', 'm') AND t.relpersistence <> 't' AND `+ours+` AND `+notMember("pg_class", "t.oid"), func(rows pgx.Rows) error {
		var x index
		var def *string
		if err := rows.Scan(&x.oid, &x.table, &x.name, &x.unique, &x.valid, &x.identity, &x.clustered, &def, &x.short, &x.constraint, &x.tablespace, &x.statistics, &x.on, &x.plain); err != nil {
			return err
		}
		if !x.valid {
			r.warns = append(r.warns, fmt.Sprintf("index %s on %s is invalid on the server and is left out", x.name, x.on))
			return nil
		}
		body, err := define("index", x.name, def)
		if err != nil {
			return err
		}
		r.addIndex(&x, body)
		return nil
	})
	if err != nil {
		return err
	}
	return r.attachments(ctx)
}

// index is one under construction.
type index struct {
	oid, table                                            uint32
	name, short, on, tablespace, statistics               string
	unique, valid, identity, clustered, constraint, plain bool
}

func (r *catalogReader) addIndex(x *index, body string) {
	self := key{"pg_class", x.oid}
	table := r.tableID[x.table]
	if !x.constraint {
		o := engine.Object{Kind: "index", Name: x.name, Table: table, Section: engine.Finish, SQL: body + ";\n" + x.statistics, Rule: true}
		if x.plain {
			o.Beside, o.Locks = engine.Shared, []string{x.on}
		}
		if x.unique && table != "" { // on a materialised view it has to wait for the rows
			o.Kind, o.Section = "unique index", engine.Keys
		}
		r.add("pg_class", x.oid, rankIndex, o, key{"pg_class", x.table}).late = o.Section == engine.Finish
	}
	also := func(kind, name, sql string, rule bool) {
		r.also(rankIdentity, engine.Object{Kind: kind, Name: name, Table: table, Section: engine.Finish, SQL: sql, Rule: rule}, self).late = true
	}
	if x.constraint && x.statistics != "" {
		also("index statistics", x.name, x.statistics, false)
	}
	if x.identity {
		also("replica identity", x.on, "ALTER TABLE ONLY "+x.on+" REPLICA IDENTITY USING INDEX "+x.short+";\n", false)
	}
	if x.clustered {
		also("cluster mark", x.name, "ALTER TABLE "+x.on+" CLUSTER ON "+x.short+";\n", false)
	}
	if x.tablespace != "" {
		also("tablespace", "index "+x.name, "ALTER INDEX "+x.name+" SET TABLESPACE "+x.tablespace+";\n", true)
	}
}

// attachments hang the indexes of partitions on those of their parents.
func (r *catalogReader) attachments(ctx context.Context) error {
	return r.rows(ctx, `SELECT i.inhrelid, i.inhparent, format('%I.%I', n.nspname, c.relname), format('%I.%I', pn.nspname, p.relname), x.indrelid
		FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		JOIN pg_class p ON p.oid = i.inhparent JOIN pg_namespace pn ON pn.oid = p.relnamespace JOIN pg_index x ON x.indexrelid = i.inhrelid
		WHERE p.relkind = 'I' AND `+ours, func(rows pgx.Rows) error {
		var child, parent, table uint32
		var name, on string
		if err := rows.Scan(&child, &parent, &name, &on, &table); err != nil {
			return err
		}
		n := r.resolve(key{"pg_class", parent})
		if n == nil || r.resolve(key{"pg_class", child}) == nil {
			return nil
		}
		r.also(rankAttach, engine.Object{Kind: "index partition", Name: name, Table: r.tableID[table], Section: n.obj.Section,
			SQL: "ALTER INDEX " + on + " ATTACH PARTITION " + name + ";\n"}, key{"pg_class", child}, key{"pg_class", parent}).late = n.late
		return nil
	})
}
