package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/pattern"
)

// constraintsRow is a row of constraints.sql.
type constraintsRow struct {
	constraint
	Relation, Body *string
}

// constraints are keys, checks and references. Checks come after the rows: one
// that the rows break, or whose function fails, must not keep them out.
func (r *catalogReader) constraints(ctx context.Context) error {
	references, spread := map[uint32][]*constraint{}, map[uint32]bool{}
	err := each(ctx, r, "constraints", func(x *constraintsRow) error {
		k := &x.constraint
		if x.Relation == nil {
			x.Body, x.Relation = nil, new(string)
		}
		var err error
		k.on = *x.Relation
		if k.body, err = define("constraint", k.Name+" on "+k.on, x.Body); err != nil {
			return err
		}
		if k.Kind == "f" && k.Parent == 0 {
			references[k.Table] = append(references[k.Table], k)
			spread[k.Table] = spread[k.Table] || k.Tree
		}
		r.addConstraint(k)
		return nil
	})
	for table, list := range references {
		if spread[table] && len(list) > 1 {
			r.reserve(list)
		}
	}
	return err
}

// reserve keeps the names of foreign keys that come later out of the server's hands while
// one is added: to a partitioned table it adds one more for each partition, and names
// those itself.
func (r *catalogReader) reserve(list []*constraint) {
	slices.SortFunc(list, func(a, b *constraint) int { return strings.Compare(a.Name, b.Name) })
	for i, k := range list {
		var hold, free []string
		for _, later := range list[i+1:] {
			hold = append(hold, "ADD CONSTRAINT "+later.Name+" CHECK (true) NOT VALID")
			free = append(free, "DROP CONSTRAINT "+later.Name)
		}
		n := r.nodes[key{"pg_constraint", k.OID}]
		if n == nil || len(hold) == 0 {
			continue
		}
		around := func(sql string) string {
			return fmt.Sprintf("ALTER TABLE %s %s;\n%sALTER TABLE %s %s;\n", k.on, strings.Join(hold, ", "), sql, k.on,
				strings.Join(free, ", "))
		}
		n.obj.SQL, n.obj.Beside = around(n.obj.SQL), ""
		if n.obj.Unchecked != "" {
			n.obj.Unchecked = around(n.obj.Unchecked)
		}
	}
}

// constraint is one under construction.
type constraint struct {
	OID, Table, Other, Domain, Index, Parent uint32
	Kind, Name                               string
	on, body                                 string
	Validated, Partitioned, Tree             bool // tree: of a table that others inherit from
}

// addConstraint adds it where it was made. On a partitioned table, keys are added to
// the leaves first and their indexes attached; foreign keys find those of the leaves.
func (r *catalogReader) addConstraint(k *constraint) {
	o := engine.Object{Name: k.Name + " on " + k.on, Table: r.tableID[k.Table], Section: engine.Finish, Rule: true}
	head := "ALTER TABLE " + k.on + " ADD CONSTRAINT " + k.Name + " "
	needs := []key{{"pg_class", k.Table}}
	rank := rankKey
	switch k.Kind {
	case "p", "u", "x":
		o.Kind = map[string]string{"p": "primary key", "u": "unique key", "x": "exclusion constraint"}[k.Kind]
		if k.Kind != "x" {
			o.Section = engine.Keys
		}
		if k.Partitioned {
			head = "ALTER TABLE ONLY " + k.on + " ADD CONSTRAINT " + k.Name + " "
		}
	case "c":
		o.Kind, rank = "check", rankCheck
		if k.Domain != 0 {
			o.Name = k.Name + " on domain " + k.on
			head = "ALTER DOMAIN " + k.on + " ADD CONSTRAINT " + k.Name + " "
			needs = []key{{"pg_type", k.Domain}}
		}
	case "f":
		o.Kind, rank = "foreign key", rankReference
		needs = append(needs, key{"pg_class", k.Other})
	}
	o.SQL = head + k.body + ";\n"
	if k.Validated && (k.Kind == "c" || k.Kind == "f" && !k.Partitioned) {
		o.Unchecked = head + k.body + " NOT VALID;\n"
	}
	if k.Domain == 0 && !k.Partitioned && !k.Tree {
		o.Beside, o.Locks = engine.Alone, []string{r.tableID[k.Table]}
		if k.Kind == "f" {
			o.Locks = append(o.Locks, r.tableID[k.Other])
		}
	}
	n := r.add("pg_constraint", k.OID, rank, o, needs...)
	n.late = o.Section == engine.Finish
	if k.Kind == "f" && k.Parent != 0 {
		r.children[key{"pg_constraint", k.Parent}] = append(r.children[key{"pg_constraint", k.Parent}], n.key)
	}
	if k.Index != 0 && k.Kind != "f" {
		r.alias[key{"pg_class", k.Index}] = n.key // what needs the index needs the key
	}
}

// indexesRow is a row of indexes.sql.
type indexesRow struct {
	index
	Definition *string
}

func (r *catalogReader) indexes(ctx context.Context) error {
	err := each(ctx, r, "indexes", func(x *indexesRow) error {
		if !x.Valid {
			r.warns = append(r.warns, fmt.Sprintf("index %s on %s is invalid on the server and is left out", x.Name,
				x.On))
			return nil
		}
		body, err := define("index", x.Name, x.Definition)
		if err != nil {
			return err
		}
		r.addIndex(&x.index, body)
		return nil
	})
	if err != nil {
		return err
	}
	return r.attachments(ctx)
}

// own finds the options of an index that only the server sets, where they are all it has.
var own = pattern.Of(` WITH \(pg_\w+='(?:[^']|'')*'\)`)

// index is one under construction.
type index struct {
	OID, Table                                            uint32
	Name, Short, On, Tablespace, Statistics               string
	Unique, Valid, Identity, Clustered, Constraint, Plain bool
}

func (r *catalogReader) addIndex(x *index, body string) {
	self := key{"pg_class", x.OID}
	table := r.tableID[x.Table]
	if !x.Constraint {
		body = own().ReplaceAllString(body, "")
		o := engine.Object{Kind: "index", Name: x.Name, Table: table, Section: engine.Finish, SQL: body + ";\n" +
			x.Statistics, Rule: true}
		if x.Plain {
			o.Beside, o.Locks = engine.Shared, []string{x.On}
		}
		if x.Unique && table != "" { // on a materialised view it has to wait for the rows
			o.Kind, o.Section = "unique index", engine.Keys
		}
		r.add("pg_class", x.OID, rankIndex, o, key{"pg_class", x.Table}).late = o.Section == engine.Finish
	}
	also := func(kind, name, sql string, rule bool) {
		r.also(rankIdentity, engine.Object{Kind: kind, Name: name, Table: table, Section: engine.Finish, SQL: sql,
			Rule: rule}, self).late = true
	}
	if x.Constraint && x.Statistics != "" {
		also("index statistics", x.Name, x.Statistics, false)
	}
	if x.Identity {
		also("replica identity", x.On, "ALTER TABLE "+x.On+" REPLICA IDENTITY USING INDEX "+x.Short+";\n", false)
	}
	if x.Clustered {
		also("cluster mark", x.Name, "ALTER TABLE "+x.On+" CLUSTER ON "+x.Short+";\n", false)
	}
	if x.Tablespace != "" {
		also("tablespace", "index "+x.Name, "ALTER INDEX "+x.Name+" SET TABLESPACE "+x.Tablespace+";\n", true)
	}
}

// indexPartitionsRow is a row of index_partitions.sql.
type indexPartitionsRow struct {
	Child, Parent, Table uint32
	Name, On             string
}

// attachments hang the indexes of partitions on those of their parents.
func (r *catalogReader) attachments(ctx context.Context) error {
	return each(ctx, r, "index_partitions", func(x *indexPartitionsRow) error {
		n := r.resolve(key{"pg_class", x.Parent})
		if n == nil || r.resolve(key{"pg_class", x.Child}) == nil {
			return nil
		}
		r.also(rankAttach, engine.Object{Kind: "index partition", Name: x.Name, Table: r.tableID[x.Table],
			Section: n.obj.Section,
			SQL:     "ALTER INDEX " + x.On + " ATTACH PARTITION " + x.Name + ";\n"}, key{"pg_class", x.Child},
			key{"pg_class", x.Parent}).late = n.late
		return nil
	})
}
