package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
)

// table is a table under construction: ordinary, partitioned or foreign.
type table struct {
	oid        uint32
	kind       string // relkind: r, p, f
	id         string
	schema     string
	name       string
	unlogged   bool
	options    string
	identity   string // replica identity
	method     string // table access method, where it is not the usual one
	tablespace string
	typed      string // the type that a typed table is of
	key        string // partition key
	bound      string // of a partition
	server     string // of a foreign table, with its options
	parents    []parent
	extension  bool
	bytes      int64
	blocks     int64 // 0 where ranges of them cannot be read fast
	rows       int64
	columns    []column
}

type parent struct {
	oid uint32
	id  string
}

// word is what the server calls such a table.
func (t *table) word() string {
	return map[string]string{"r": "table", "p": "partitioned table", "f": "foreign table"}[t.kind]
}

func (r *catalogReader) readTables(ctx context.Context) error {
	var list []*table
	byOID := map[uint32]*table{}
	blocks := "0"
	if r.version >= 140000 { // before, a range of blocks reads the whole table
		blocks = "CASE WHEN c.relkind = 'r' AND c.relam = 2 THEN pg_relation_size(c.oid) / current_setting('block_size')::bigint ELSE 0 END"
	}
	err := r.rows(ctx, `SELECT c.oid, c.relkind::text, c.reltype, n.nspname::text, c.relname::text, format('%I.%I', n.nspname, c.relname), c.relpersistence = 'u',
		coalesce(array_to_string(c.reloptions, ', '), ''), c.relreplident::text, coalesce(pg_table_size(c.oid), 0), `+blocks+`, c.reltuples::bigint,
		coalesce((SELECT t.typarray FROM pg_type t WHERE t.oid = c.reltype), 0),
		coalesce((SELECT quote_ident(a.amname) FROM pg_am a WHERE a.oid = c.relam AND a.amname <> 'heap'), ''),
		coalesce((SELECT quote_ident(s.spcname) FROM pg_tablespace s WHERE s.oid = c.reltablespace), ''),
		CASE WHEN c.reloftype <> 0 THEN format_type(c.reloftype, NULL) ELSE '' END,
		CASE WHEN c.relkind = 'p' THEN pg_get_partkeydef(c.oid) ELSE '' END, CASE WHEN c.relispartition THEN pg_get_expr(c.relpartbound, c.oid) ELSE '' END,
		coalesce((SELECT format(' SERVER %I', s.srvname) || `+optionList("f.ftoptions")+` FROM pg_foreign_table f JOIN pg_foreign_server s ON s.oid = f.ftserver WHERE f.ftrelid = c.oid), ''),
		EXISTS (SELECT FROM pg_depend x WHERE x.classid = 'pg_class'::regclass AND x.objid = c.oid AND x.deptype = 'e')
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r', 'p', 'f') AND c.relpersistence <> 't' AND `+ours, func(rows pgx.Rows) error {
		t := &table{}
		var rowType, array uint32
		var key_, bound *string
		if err := rows.Scan(&t.oid, &t.kind, &rowType, &t.schema, &t.name, &t.id, &t.unlogged, &t.options, &t.identity, &t.bytes, &t.blocks, &t.rows, &array,
			&t.method, &t.tablespace, &t.typed, &key_, &bound, &t.server, &t.extension); err != nil {
			return err
		}
		var err error
		if t.key, err = define("partition key of", t.id, key_); err != nil {
			return err
		}
		if t.bound, err = define("partition bound of", t.id, bound); err != nil {
			return err
		}
		byOID[t.oid] = t
		list = append(list, t)
		if t.extension {
			return nil
		}
		r.alias[key{"pg_type", rowType}] = key{"pg_class", t.oid}
		r.alias[key{"pg_type", array}] = key{"pg_class", t.oid}
		r.tableID[t.oid] = t.id
		return nil
	})
	if err != nil {
		return err
	}
	for _, step := range []func(context.Context, map[uint32]*table) error{r.columns, r.parents} {
		if err := step(ctx, byOID); err != nil {
			return err
		}
	}
	cyclic, err := r.cyclicDefaults(ctx)
	if err != nil {
		return err
	}
	conditions, err := r.configuration(ctx)
	if err != nil {
		return err
	}
	trees, err := r.trees(ctx)
	if err != nil {
		return err
	}
	for _, t := range list {
		if !t.extension {
			r.addTable(t, cyclic)
		}
		condition, configured := conditions[t.oid]
		if t.kind == "r" && (!t.extension || configured) {
			r.addRows(t, condition, trees[t.oid], byOID)
		}
	}
	return nil
}

func (r *catalogReader) parents(ctx context.Context, tables map[uint32]*table) error {
	return r.rows(ctx, `SELECT i.inhrelid, i.inhparent, format('%I.%I', n.nspname, c.relname) FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhparent
		JOIN pg_namespace n ON n.oid = c.relnamespace ORDER BY i.inhrelid, i.inhseqno`, func(rows pgx.Rows) error {
		var child uint32
		var p parent
		if err := rows.Scan(&child, &p.oid, &p.id); err != nil {
			return err
		}
		if t := tables[child]; t != nil {
			t.parents = append(t.parents, p)
		}
		return nil
	})
}

// addTable makes the table's object and those that come after it.
func (r *catalogReader) addTable(t *table, cyclic map[place]bool) {
	self := key{"pg_class", t.oid}
	o := engine.Object{Kind: t.word(), Name: t.id, Table: t.id, Section: engine.Schema}
	var after []string
	for i := range t.columns {
		c := &t.columns[i]
		c.later = c.generated == "" && c.def != "" && cyclic[place{t.oid, c.num}]
		if c.later {
			n := r.also(rankDefault, engine.Object{Kind: "default", Name: t.id + "." + c.quoted, Table: t.id, Section: engine.Finish,
				SQL: fmt.Sprintf("ALTER TABLE ONLY %s ALTER COLUMN %s SET DEFAULT %s;\n", t.id, c.quoted, c.def)}, self)
			n.late = true
			r.laterDefault[place{t.oid, c.num}] = n
		}
		after = append(after, c.settings(t.id)...)
		if n := c.notNull; n.set && n.unvalidated && n.local {
			r.also(rankCheck, engine.Object{Kind: "not-null", Name: n.name + " on " + t.id, Table: t.id, Section: engine.Finish, Rule: true,
				SQL: fmt.Sprintf("ALTER TABLE %s ADD CONSTRAINT %s NOT NULL %s NOT VALID;\n", t.id, n.name, c.quoted)}, self)
		}
	}
	o.SQL = t.create() + strings.Join(after, "")
	n := r.add("pg_class", t.oid, rankTable, o)
	for _, p := range t.parents {
		n.needs = append(n.needs, key{"pg_class", p.oid})
	}
	if t.bound != "" {
		r.also(rankAttach, engine.Object{Kind: "partition", Name: t.id, Table: t.id, Section: engine.Schema,
			SQL: fmt.Sprintf("ALTER TABLE ONLY %s ATTACH PARTITION %s %s;\n", t.parents[0].id, t.id, t.bound)}, self, key{"pg_class", t.parents[0].oid})
	}
	if t.tablespace != "" {
		r.also(rankAttach, engine.Object{Kind: "tablespace", Name: t.word() + " " + t.id, Table: t.id, Section: engine.Schema, Rule: true,
			SQL: fmt.Sprintf("ALTER TABLE ONLY %s SET TABLESPACE %s;\n", t.id, t.tablespace)}, self)
	}
	if w := map[string]string{"f": "FULL", "n": "NOTHING"}[t.identity]; w != "" && t.kind != "f" {
		r.also(rankIdentity, engine.Object{Kind: "replica identity", Name: t.id, Table: t.id, Section: engine.Finish,
			SQL: "ALTER TABLE ONLY " + t.id + " REPLICA IDENTITY " + w + ";\n"}, self)
	}
}

// create is the statement that makes a table, and what it takes to inherit.
func (t *table) create() string {
	head := map[string]string{"r": "CREATE TABLE ", "p": "CREATE TABLE ", "f": "CREATE FOREIGN TABLE "}[t.kind]
	if t.unlogged {
		head = "CREATE UNLOGGED TABLE "
	}
	tail := t.server
	if t.key != "" {
		tail += " PARTITION BY " + t.key
	}
	if t.method != "" {
		tail += " USING " + t.method
	}
	if t.options != "" {
		tail += " WITH (" + t.options + ")"
	}
	if t.typed != "" {
		return head + t.id + " OF " + t.typed + t.list(func(c *column) string { return c.ofType() }) + tail + ";\n"
	}
	if len(t.parents) == 0 || t.bound != "" {
		sql := t.list(func(c *column) string { return c.definition(t.bound != "") })
		if sql == "" {
			sql = " ()"
		}
		return head + t.id + sql + tail + ";\n"
	}
	return t.inherit(head, tail)
}

// inherit makes a table whose columns have their order, and know which of them are
// inherited, after whatever history: it inherits all of them from a helper first.
func (t *table) inherit(head, tail string) string {
	local := t.list(func(c *column) string {
		own := ""
		if c.notNull.name != "" && c.notNull.local {
			own = c.required()
		}
		switch {
		case c.local:
			return c.quoted + " " + c.typ + c.collate() + c.foreign + c.identified() + own
		case own != "":
			return strings.Replace(own[1:], " NOT NULL", " NOT NULL "+c.quoted, 1)
		}
		return ""
	})
	if local == "" {
		local = " ()"
	}
	var b strings.Builder
	b.WriteString("CREATE SCHEMA grainkeep_helper;\nCREATE TABLE grainkeep_helper.columns" +
		t.list(func(c *column) string {
			sql := c.quoted + " " + c.typ + c.collate() + c.valued()
			if c.notNull.inherited {
				sql += c.required()
			}
			return sql
		}) + ";\n")
	b.WriteString(head + t.id + local + " INHERITS (grainkeep_helper.columns)" + tail + ";\n")
	for _, p := range t.parents {
		fmt.Fprintf(&b, "ALTER TABLE ONLY %s INHERIT %s;\n", t.id, p.id)
	}
	fmt.Fprintf(&b, "ALTER TABLE ONLY %s NO INHERIT grainkeep_helper.columns;\nDROP SCHEMA grainkeep_helper CASCADE;\n", t.id)
	return b.String()
}

// list writes the columns that a function has something to say of.
func (t *table) list(say func(*column) string) string {
	var lines []string
	for i := range t.columns {
		if s := say(&t.columns[i]); s != "" {
			lines = append(lines, "    "+s)
		}
	}
	if len(lines) == 0 {
		return ""
	}
	return " (\n" + strings.Join(lines, ",\n") + "\n)"
}

// addRows describes the rows of a table.
func (r *catalogReader) addRows(t *table, condition string, root uint32, tables map[uint32]*table) {
	columns := t.columns
	into, tree := t.id, ""
	if root != 0 { // all leaves of such a tree have the root's order of columns
		columns, into, tree = tables[root].columns, tables[root].id, tables[root].id
	}
	var dumped, listed []string
	for _, c := range columns {
		if c.generated == "" {
			dumped = append(dumped, c.name)
			listed = append(listed, c.quoted)
		}
	}
	list := ""
	if len(listed) > 0 {
		list = " (" + strings.Join(listed, ", ") + ")"
	}
	head := "COPY " + into + list + " FROM stdin;\n"
	encoding := rowsIn(r.encoding, head+t.id)
	if encoding != "" {
		head = setEncoding(encoding) + head
	}
	e := engine.Table{
		ID: t.id, Schema: t.schema, Name: t.name, Columns: dumped, Bytes: t.bytes, Rows: t.rows, Through: tree, Tree: r.rootOf(t, tables),
		Frame:  engine.Framing{Head: head, RowEnd: "\n", GroupEnd: "\n", Tail: "\\.\n", Always: true},
		Handle: handle{table: t.id, columns: strings.Join(listed, ", "), encoding: encoding}, Blocks: t.blocks,
		Count: "SELECT " + literal(t.id) + ", count(*) FROM ONLY " + t.id + ";\n",
	}
	if condition != "" {
		e.Blocks = 0
		e.Handle = handle{table: t.id, encoding: encoding, query: "SELECT " + strings.Join(listed, ", ") + " FROM ONLY " + t.id + " WHERE " + condition}
		e.Count = "SELECT " + literal(t.id) + ", count(*) FROM ONLY " + t.id + " WHERE " + condition + ";\n"
	}
	if tree != "" { // its rows may come back in another leaf
		e.Count = "SELECT " + literal(tree) + ", count(*) FROM " + tree + ";\n"
	}
	r.tables = append(r.tables, e)
}

// rootOf is the partitioned table at the top of a partition's tree.
func (r *catalogReader) rootOf(t *table, tables map[uint32]*table) string {
	for t != nil && t.bound != "" && len(t.parents) == 1 {
		if t = tables[t.parents[0].oid]; t != nil && t.bound == "" {
			return t.id
		}
	}
	return ""
}

// trees finds the leaves that must be loaded through their root: where rows are
// spread by a hash that is another one in a new database (of an enum, whose values
// are hashed by their OIDs), or by the order of texts, which may have another
// version there.
func (r *catalogReader) trees(ctx context.Context) (map[uint32]uint32, error) {
	found := map[uint32]uint32{}
	err := r.rows(ctx, `WITH RECURSIVE key AS (
			SELECT p.partrelid, p.partstrat, coalesce(a.atttypid, 0) AS typ, p.partcollation[k.n - 1] AS coll, p.partclass[k.n - 1] AS class
			FROM pg_partitioned_table p CROSS JOIN LATERAL unnest(p.partattrs::int2[]) WITH ORDINALITY k(num, n) LEFT JOIN pg_attribute a ON a.attrelid = p.partrelid AND a.attnum = k.num),
		shaky AS (
			SELECT DISTINCT k.partrelid FROM key k LEFT JOIN pg_type t ON t.oid = k.typ LEFT JOIN pg_collation c ON c.oid = k.coll
			WHERE k.partstrat = 'h' AND (t.typtype IS DISTINCT FROM 'b' OR t.typelem <> 0 AND t.typlen = -1 OR t.oid >= 16384 OR k.class >= 16384 OR t.typname LIKE 'reg%' OR k.coll <> 0 AND NOT c.collisdeterministic)
			OR k.partstrat = 'r' AND k.coll <> 0 AND coalesce(c.collname NOT IN ('C', 'POSIX', 'ucs_basic'), true)
				AND NOT (k.coll = 100 AND (SELECT datcollate IN ('C', 'POSIX') FROM pg_database WHERE datname = current_database()))),
		up AS (
			SELECT oid AS rel, oid AS at FROM pg_class WHERE relispartition OR relkind = 'p'
			UNION ALL SELECT u.rel, i.inhparent FROM up u JOIN pg_inherits i ON i.inhrelid = u.at),
		root AS (SELECT rel, at AS root FROM up WHERE NOT EXISTS (SELECT FROM pg_inherits i WHERE i.inhrelid = up.at))
		SELECT r.rel, r.root FROM root r JOIN pg_class c ON c.oid = r.rel WHERE c.relkind = 'r' AND c.relispartition
			AND r.root IN (SELECT s.root FROM root s JOIN shaky k ON k.partrelid = s.rel)`, func(rows pgx.Rows) error {
		var leaf, root uint32
		if err := rows.Scan(&leaf, &root); err != nil {
			return err
		}
		found[leaf] = root
		return nil
	})
	return found, err
}
