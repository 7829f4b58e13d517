package postgres

import (
	"context"
	"fmt"
	"strings"

	"grainkeep/internal/engine"
)

// table is a table under construction: ordinary, partitioned or foreign.
type table struct {
	OID        uint32
	Kind       string // relkind: r, p, f
	ID         string
	Schema     string
	Name       string
	Unlogged   bool
	Options    string
	Identity   string // replica identity
	Method     string // table access method, where it is not the usual one
	Tablespace string
	Typed      string // the type that a typed table is of
	key        string // partition key
	bound      string // of a partition
	Server     string // of a foreign table, with its options
	parents    []parent
	Extension  bool
	helper     string // a schema that is there while the table is made
	Bytes      int64
	Toasted    int64 // bytes of its long values
	Blocks     int64 // 0 where ranges of them cannot be read fast
	Rows       int64
	columns    []column
}

type parent struct {
	OID uint32
	ID  string
}

// word is what the server calls such a table.
func (t *table) word() string {
	return map[string]string{"r": "table", "p": "partitioned table", "f": "foreign table"}[t.Kind]
}

// tablesRow is a row of tables.sql.
type tablesRow struct {
	table
	RowType, Array uint32
	Key, Bound     *string
}

func (r *catalogReader) readTables(ctx context.Context) error {
	var list []*table
	byOID := map[uint32]*table{}
	err := each(ctx, r, "tables", func(x *tablesRow) error {
		t := &x.table
		var err error
		if t.key, err = define("partition key of", t.ID, x.Key); err != nil {
			return err
		}
		if t.bound, err = define("partition bound of", t.ID, x.Bound); err != nil {
			return err
		}
		byOID[t.OID] = t
		list = append(list, t)
		if t.Extension {
			return nil
		}
		r.alias[key{"pg_type", x.RowType}] = key{"pg_class", t.OID}
		r.alias[key{"pg_type", x.Array}] = key{"pg_class", t.OID}
		r.tableID[t.OID] = t.ID
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
	keys, err := r.rowKeys(ctx)
	if err != nil {
		return err
	}
	for _, t := range list {
		if !t.Extension {
			t.helper = r.helper
			r.addTable(t, cyclic)
		}
		condition, configured := conditions[t.OID]
		if t.Kind == "r" && (!t.Extension || configured) {
			r.addRows(t, condition, trees[t.OID], byOID)
			setKey(&r.tables[len(r.tables)-1], keys[t.OID])
		}
	}
	return nil
}

// parentsRow is a row of parents.sql.
type parentsRow struct {
	Child, POID uint32
	PID         string
}

func (r *catalogReader) parents(ctx context.Context, tables map[uint32]*table) error {
	return each(ctx, r, "parents", func(x *parentsRow) error {
		var p parent
		p.OID, p.ID = x.POID, x.PID
		if t := tables[x.Child]; t != nil {
			t.parents = append(t.parents, p)
			r.parentage[p.OID] = true
		}
		return nil
	})
}

// only keeps a statement about a table from its children, where there are any.
func (r *catalogReader) only(oid uint32) string {
	if r.parentage[oid] {
		return "ONLY "
	}
	return ""
}

// addTable makes the table's object and those that come after it.
func (r *catalogReader) addTable(t *table, cyclic map[place]bool) {
	self := key{"pg_class", t.OID}
	o := engine.Object{Kind: t.word(), Name: t.ID, Table: t.ID, Section: engine.Schema}
	var after []string
	for i := range t.columns {
		c := &t.columns[i]
		c.later = c.Generated == "" && c.Default != "" && cyclic[place{t.OID, c.Num}]
		if c.later {
			n := r.also(rankDefault, engine.Object{Kind: "default", Name: t.ID + "." + c.Quoted, Table: t.ID,
				Section: engine.Finish,
				SQL: fmt.Sprintf("ALTER TABLE %s%s ALTER %s SET DEFAULT %s;\n", r.only(t.OID), t.ID, c.Quoted,
					c.Default)},
				self)
			n.late = true
			r.laterDefault[place{t.OID, c.Num}] = n
		}
		after = append(after, c.settings(r.only(t.OID)+t.ID)...)
		if n := c.notNull; n.Set && n.Unvalidated && n.Local {
			r.also(rankCheck, engine.Object{Kind: "not-null", Name: n.Name + " on " + t.ID, Table: t.ID,
				Section: engine.Finish, Rule: true,
				SQL: fmt.Sprintf("ALTER TABLE %s ADD CONSTRAINT %s NOT NULL %s NOT VALID;\n", t.ID, n.Name,
					c.Quoted)}, self)
		}
	}
	o.SQL = t.create() + strings.Join(after, "")
	n := r.add("pg_class", t.OID, rankTable, o)
	for _, p := range t.parents {
		n.needs = append(n.needs, key{"pg_class", p.OID})
	}
	if t.bound != "" {
		r.also(rankAttach, engine.Object{Kind: "partition", Name: t.ID, Table: t.ID, Section: engine.Schema,
			SQL: fmt.Sprintf("ALTER TABLE %s ATTACH PARTITION %s %s;\n", t.parents[0].ID, t.ID, t.bound)}, self,
			key{"pg_class", t.parents[0].OID})
	}
	if t.Tablespace != "" {
		r.also(rankAttach, engine.Object{Kind: "tablespace", Name: t.word() + " " + t.ID, Table: t.ID,
			Section: engine.Schema, Rule: true,
			SQL: fmt.Sprintf("ALTER TABLE %s%s SET TABLESPACE %s;\n", r.only(t.OID), t.ID, t.Tablespace)}, self)
	}
	if w := map[string]string{"f": "FULL", "n": "NOTHING"}[t.Identity]; w != "" && t.Kind != "f" {
		r.also(rankIdentity, engine.Object{Kind: "replica identity", Name: t.ID, Table: t.ID, Section: engine.Finish,
			SQL: "ALTER TABLE " + t.ID + " REPLICA IDENTITY " + w + ";\n"}, self)
	}
}

// create is the statement that makes a table, and what it takes to inherit.
func (t *table) create() string {
	head := map[string]string{"r": "CREATE TABLE ", "p": "CREATE TABLE ", "f": "CREATE FOREIGN TABLE "}[t.Kind]
	if t.Unlogged {
		head = "CREATE UNLOGGED TABLE "
	}
	tail := t.Server
	if t.key != "" {
		tail += " PARTITION BY " + t.key
	}
	if t.Method != "" {
		tail += " USING " + t.Method
	}
	if t.Options != "" {
		tail += " WITH (" + t.Options + ")"
	}
	if t.Typed != "" {
		return head + t.ID + " OF " + t.Typed + t.list(func(c *column) string { return c.ofType() }) + tail + ";\n"
	}
	if len(t.parents) == 0 || t.bound != "" {
		sql := t.list(func(c *column) string { return c.definition(t.bound != "") })
		if sql == "" {
			sql = " ()"
		}
		return head + t.ID + sql + tail + ";\n"
	}
	return t.inherit(head, tail)
}

// inherit makes a table whose columns have their order, and know which of them are
// inherited, after whatever history: it inherits all of them from a helper first.
func (t *table) inherit(head, tail string) string {
	local := t.list(func(c *column) string {
		own := ""
		if c.notNull.Name != "" && c.notNull.Local {
			own = c.required()
		}
		switch {
		case c.Local:
			return c.Quoted + " " + c.Type + c.collate() + c.Foreign + c.identified() + own
		case own != "":
			return strings.Replace(own[1:], " NOT NULL", " NOT NULL "+c.Quoted, 1)
		}
		return ""
	})
	if local == "" {
		local = " ()"
	}
	var b strings.Builder
	b.WriteString("CREATE SCHEMA " + t.helper + ";\nCREATE TABLE " + t.helper + ".columns" +
		t.list(func(c *column) string {
			sql := c.Quoted + " " + c.Type + c.collate() + c.valued()
			if c.notNull.Inherited {
				sql += c.required()
			}
			return sql
		}) + ";\n")
	b.WriteString(head + t.ID + local + " INHERITS (" + t.helper + ".columns)" + tail + ";\n")
	for _, p := range t.parents {
		fmt.Fprintf(&b, "ALTER TABLE %s INHERIT %s;\n", t.ID, p.ID)
	}
	fmt.Fprintf(&b, "ALTER TABLE %s NO INHERIT %s.columns;\nDROP SCHEMA %s CASCADE;\n", t.ID, t.helper, t.helper)
	return b.String()
}

// list writes the columns that a function has something to say of.
func (t *table) list(say func(*column) string) string {
	var lines []string
	for i := range t.columns {
		if s := say(&t.columns[i]); s != "" {
			lines = append(lines, s)
		}
	}
	if len(lines) == 0 {
		return ""
	}
	return "\n( " + strings.Join(lines, "\n, ") + "\n)"
}

// addRows describes the rows of a table.
func (r *catalogReader) addRows(t *table, condition string, root uint32, tables map[uint32]*table) {
	columns := t.columns
	into, tree := t.ID, ""
	if root != 0 { // all leaves of such a tree have the root's order of columns
		columns, into, tree = tables[root].columns, tables[root].ID, tables[root].ID
	}
	var dumped, listed, generated []string
	for _, c := range columns {
		if c.Generated == "" {
			dumped = append(dumped, c.Name)
			listed = append(listed, c.Quoted)
		} else {
			generated = append(generated, c.Quoted)
		}
	}
	for p := t; p != nil && (len(generated) > 0 || t.bound != ""); {
		r.careful[t.ID] = append(r.careful[t.ID], p.OID)
		if p.bound == "" || len(p.parents) != 1 {
			break
		}
		p = tables[p.parents[0].OID]
	}
	list := ""
	if len(listed) > 0 {
		list = "(" + strings.Join(listed, ",") + ")"
	}
	head := copyHead(into, list)
	encoding := rowsIn(r.encoding, head+t.ID)
	if encoding != "" {
		head = setEncoding(encoding) + head
	}
	e := engine.Table{
		ID: t.ID, Schema: t.Schema, Name: t.Name, Columns: dumped, Bytes: t.Bytes, Rows: t.Rows, Through: tree,
		Tree:  r.rootOf(t, tables),
		Frame: engine.Framing{Head: head, RowEnd: "\n", GroupEnd: "\n", Tail: "\\.\n", Always: true},
		Handle: handle{table: t.ID, columns: strings.Join(listed, ", "), encoding: encoding,
			generated: strings.Join(generated, ", "), long: t.long(into, columns, r.encoding)}, Blocks: t.Blocks,
		Count: "SELECT " + literal(t.ID) + ", count(*) FROM ONLY " + t.ID + ";\n",
	}
	if condition != "" {
		e.Blocks = 0
		e.Handle = handle{table: t.ID, encoding: encoding, columns: strings.Join(listed, ", "), condition: condition}
		e.Count = "SELECT " + literal(t.ID) + ", count(*) FROM ONLY " + t.ID + " WHERE " + condition + ";\n"
	}
	if tree != "" { // its rows may come back in another leaf
		e.Count = "SELECT " + literal(tree) + ", count(*) FROM " + tree + ";\n"
	}
	r.tables = append(r.tables, e)
}

// long is what it takes to read rows that are too long to be copied, where there can be any.
func (t *table) long(into string, columns []column, encoding string) *longRows {
	if t.Toasted < longFrom || t.Method != "" {
		return nil
	}
	l := &longRows{table: into, wide: map[string]string{}, encoding: encoding}
	for _, c := range columns {
		if c.Generated != "" {
			continue
		}
		l.columns = append(l.columns, c.Quoted)
		if c.Wide != "" {
			l.wide[c.Quoted] = c.Wide
		}
	}
	if len(l.wide) == 0 {
		return nil
	}
	return l
}

// copyHead is the statement that rows follow.
func copyHead(into, list string) string {
	return "COPY " + into + list + " FROM STDIN (FORMAT text);\n"
}

// rootOf is the partitioned table at the top of a partition's tree.
func (r *catalogReader) rootOf(t *table, tables map[uint32]*table) string {
	for t != nil && t.bound != "" && len(t.parents) == 1 {
		if t = tables[t.parents[0].OID]; t != nil && t.bound == "" {
			return t.ID
		}
	}
	return ""
}

// treesRow is a row of trees.sql.
type treesRow struct {
	Leaf, Root uint32
}

// trees finds the leaves that must be loaded through their root: where rows are
// spread by a hash that is another one in a new database (of an enum, whose values
// are hashed by their OIDs), or by the order of texts, which may have another
// version there.
func (r *catalogReader) trees(ctx context.Context) (map[uint32]uint32, error) {
	found := map[uint32]uint32{}
	err := each(ctx, r, "trees", func(x *treesRow) error {
		found[x.Leaf] = x.Root
		return nil
	})
	return found, err
}
