package mysql

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/pattern"
)

// readTables makes the objects of each table: the table with its primary key, its other
// keys, its foreign keys.
func (r *catalogReader) readTables(ctx context.Context) error {
	sizes, stamps := map[string][2]int64{}, map[string][2]string{}
	rows, err := r.c.rows(ctx,
		"SELECT table_name, coalesce(table_rows, 0), coalesce(data_length, 0), coalesce(create_time, ''), "+
			"coalesce(unix_timestamp(update_time), '') FROM information_schema.tables WHERE table_schema = database()")
	if err != nil {
		return err
	}
	for _, row := range rows {
		count, _ := strconv.ParseInt(row[1], 10, 64)
		bytes, _ := strconv.ParseInt(row[2], 10, 64)
		sizes[row[0]], stamps[row[0]] = [2]int64{count, bytes}, [2]string{row[3], row[4]}
	}
	columns, err := r.s.listedColumns(ctx, r.c, r.database, "")
	if err != nil {
		return err
	}
	noUnique, err := r.loose(ctx)
	if err != nil {
		return err
	}
	var unions []*table
	for _, listed := range r.listed {
		if listed.kind == "SEQUENCE" {
			continue
		}
		sql, _, err := r.definition(ctx, "TABLE", listed.name, 1)
		if err != nil {
			return err
		}
		t, err := parse(sql, r.database)
		if err == nil && !r.s.maria {
			t.explicit()
		}
		if err == nil {
			err = t.agree(columns[listed.name])
		}
		if err != nil {
			return fmt.Errorf("the definition of %s: %w", listed.name, err)
		}
		t.name, t.rows, t.bytes = listed.name, sizes[listed.name][0], sizes[listed.name][1]
		t.made, t.written = stamps[listed.name][0], stamps[listed.name][1]
		if err := r.texts(ctx, t); err != nil {
			return err
		}
		if t.space {
			r.warns = append(r.warns,
				"the table "+t.name+" lies in a tablespace that it shares: it comes back in a file of "+
					"its own")
		}
		if strings.EqualFold(t.engine, "MRG_MyISAM") { // it has no rows of its own, and needs those that have
			unions = append(unions, t)
			continue
		}
		if !transactional(t.engine) {
			r.outside = append(r.outside, t.name+" ("+t.engine+")")
		}
		t.loose = noUnique
		if err := r.addTable(ctx, t); err != nil {
			return err
		}
	}
	for _, t := range unions {
		r.add(t.object())
	}
	return nil
}

// loose are the names of foreign keys to columns that no unique key covers, which the newer
// MySQL does not make unless it is told to.
func (r *catalogReader) loose(ctx context.Context) (map[string]bool, error) {
	if r.s.maria || r.s.version < 80400 {
		return nil, nil
	}
	rows, err := r.c.rows(ctx, "SELECT constraint_name FROM information_schema.referential_constraints "+
		"WHERE constraint_schema = database() AND unique_constraint_name IS NULL")
	names := map[string]bool{}
	for _, row := range rows {
		names[quote(row[0])] = true
	}
	return names, err
}

// table is a table whose definition was taken apart.
type table struct {
	name        string
	inside      []string // columns, and what else stands with them from the start
	keys        []string // that come after the rows
	references  []string
	options     string // what follows the list
	engine      string
	columns     []column
	versioned   bool
	rows, bytes int64
	made        string          // when, as the server says it
	written     string          // when rows of it were, in seconds since 1970; empty: it is not known
	space       bool            // in a tablespace that it shares
	loose       map[string]bool // foreign keys without a unique key behind them
}

// object is the table itself.
func (t *table) object() engine.Object {
	id := quote(t.name)
	sql := func(options string) string {
		return "CREATE TABLE " + id + " (\n  " + strings.Join(t.inside, ",\n  ") + "\n" + options + ";\n"
	}
	o := engine.Object{Kind: "table", Name: id, Table: id, Section: engine.Schema, SQL: sql(t.options)}
	if at := counter().FindStringIndex(words(t.options)); at != nil {
		o.Alike = sql(t.options[:at[0]] + t.options[at[1]:])
	}
	return o
}

// counter is the option that says which number an AUTO_INCREMENT column has next.
var counter = pattern.Of(` AUTO_INCREMENT=[0-9]+`)

// tableOf reads a table of the connection's database.
func tableOf(ctx context.Context, c *conn, name string) (*table, error) {
	rows, err := c.rows(ctx, "SHOW CREATE TABLE "+name)
	if err != nil {
		return nil, err
	}
	return parse(rows[0][1], "")
}

// parse takes the server's CREATE TABLE apart. Keys are left in it that the table
// cannot be without, and where making them later gains nothing.
func parse(sql, database string) (*table, error) {
	open := strings.Index(words(sql), "(\n")
	if open < 0 {
		return nil, fmt.Errorf("there is no list of columns in %.80q", sql)
	}
	t := &table{}
	list, end := items(sql[open+1:])
	t.options = sql[open+1+end:]
	t.columns = columnsOf(list, t.options)
	t.versioned = strings.Contains(words(t.options), " WITH SYSTEM VERSIONING")
	if m := inSpace().FindStringIndex(t.options); m != nil { // it comes back in a file of its own
		t.space = true
		t.options = ")" + t.options[m[1]:]
	}
	if m := made().FindStringSubmatch(t.options); m != nil {
		t.engine = m[1]
	}
	innodb := strings.EqualFold(t.engine, "InnoDB")
	counted := ""
	for _, item := range list {
		if strings.HasPrefix(item, "`") && strings.Contains(words(item), " AUTO_INCREMENT") {
			counted = quoted().FindString(item)
		}
	}
	for _, item := range list {
		switch {
		case strings.HasPrefix(item, "CONSTRAINT ") && foreign().MatchString(item):
			t.references = append(t.references, item)
			continue
		case innodb && secondary().MatchString(item):
			if counted != "" && strings.HasPrefix(secondary().ReplaceAllString(item, ""), counted) && !hasPrimary(list,
				counted) {
				counted = "" // a column that counts by itself must have one key from the start
			} else {
				t.keys = append(t.keys, item)
				continue
			}
		case strings.HasPrefix(item, "`"):
			for _, f := range []string{"nextval(", "lastval("} {
				item = replaceWords(item, f+quote(database)+".", f)
			}
		}
		t.inside = append(t.inside, item)
	}
	return t, nil
}

// explicit says of all columns what MySQL leaves out at one time and says at another.
func (t *table) explicit() {
	for i, item := range t.inside {
		if strings.HasPrefix(item, "`") {
			t.inside[i] = explicit(item)
		}
	}
}

// explicit says of a column what the server leaves out at one time and says at another.
func explicit(item string) string {
	said := words(item)
	if at := strings.Index(said, " COLLATE "); at > 0 && !strings.Contains(said[:at], " CHARACTER SET ") {
		if charset, _, ok := strings.Cut(said[at+len(" COLLATE "):], "_"); ok && word().MatchString(charset) {
			item = item[:at] + " CHARACTER SET " + charset + item[at:]
			said = words(item)
		}
	}
	m := typed().FindStringSubmatchIndex(item)
	if m == nil || item[m[2]:m[3]] != "json" || strings.Contains(said, " DEFAULT ") ||
		strings.Contains(said, " NOT NULL") || strings.Contains(said, " GENERATED ") {
		return item
	}
	if at := strings.Index(said, " COMMENT "); at > 0 {
		return item[:at] + " DEFAULT NULL" + item[at:]
	}
	return item + " DEFAULT NULL"
}

var (
	inSpace   = pattern.Of("^\\) /\\*!50100 TABLESPACE `(?:[^`]|``)*`[^*]*\\*/")
	made      = pattern.Of(`^\) ENGINE=(\w+)`)
	foreign   = pattern.Of("^CONSTRAINT `(?:[^`]|``)*` FOREIGN KEY ")
	secondary = pattern.Of("^(?:UNIQUE |FULLTEXT |SPATIAL )?KEY `(?:[^`]|``)*` \\(")
)

// hasPrimary says whether the primary key begins with a column.
func hasPrimary(list []string, column string) bool {
	for _, item := range list {
		if strings.HasPrefix(item, "PRIMARY KEY ("+column) {
			return true
		}
	}
	return false
}

// counted is the column that the primary key begins with, where ranges of it can be
// read: a number with a sign.
func (t *table) counted() string {
	for _, item := range t.inside {
		name := quoted().FindString(item)
		if m := signed().FindString(item); m != "" && hasPrimary(t.inside, name) {
			return name
		}
	}
	return ""
}

var signed = pattern.Of("^`(?:[^`]|``)*` (?:tiny|small|medium|big)?int(?:\\([0-9]+\\))? (?:[^u]|$)")

// items splits the list of a CREATE TABLE. It gives the place of the closing parenthesis too.
func items(sql string) (list []string, end int) { return engine.SplitList(sql, true) }

func (r *catalogReader) addTable(ctx context.Context, t *table) error {
	id := quote(t.name)
	o := t.object()
	for _, other := range r.objects {
		if other.Kind == "sequence" && strings.Contains(o.SQL, other.Name) {
			o.Needs = append(o.Needs, other.ID())
		}
	}
	r.add(o)
	set := ""
	if t.versioned { // else it does not let itself be altered
		set = "SET system_versioning_alter_history = KEEP;\n"
	}
	r.addKeys(id, set, t.keys)
	for _, item := range t.references {
		before := set
		if t.loose[quoted().FindString(item)] {
			before += "SET restrict_fk_on_non_standard_key = OFF;\n"
		}
		r.addReference(id, before, item)
	}
	return r.addRows(ctx, t)
}

// addKeys makes the other keys in one pass over the rows; the server makes one
// full-text key at a time.
func (r *catalogReader) addKeys(id, set string, keys []string) {
	var together []string
	key := func(name string, list []string) {
		r.add(engine.Object{Kind: "keys", Name: name, Table: id, Needs: []string{"table " + id}, Section: engine.Keys,
			Beside: engine.Alone, Locks: []string{id},
			SQL: set + "ALTER TABLE " + id + "\n  ADD " + strings.Join(list, ",\n  ADD ") + ";\n"})
	}
	for _, k := range keys {
		if strings.HasPrefix(k, "FULLTEXT ") {
			key(id+"."+quoted().FindString(k), []string{k})
		} else {
			together = append(together, k)
		}
	}
	if len(together) > 0 {
		key(id, together)
	}
}

var reference = pattern.Of("^CONSTRAINT (`(?:[^`]|``)*`) FOREIGN KEY \\(([^)]*)\\) REFERENCES " +
	"((?:`(?:[^`]|``)*`\\.)?`(?:[^`]|``)*`) \\(([^)]*)\\)")

// addReference makes a foreign key. The rows are tested by a query, which fails where
// some have no parent; the server would copy the whole table to do it. A key to another
// database acts on that: it is left out of drills.
func (r *catalogReader) addReference(id, set, item string) {
	m := reference().FindStringSubmatch(item)
	add := set + "ALTER TABLE " + id + " ADD " + item + ";\n"
	o := engine.Object{Kind: "foreign key", Name: id + "." + quoted().FindString(item), Table: id,
		Needs: []string{"table " + id}, Section: engine.References,
		Rule: true, SQL: add, Beside: engine.Alone, Locks: []string{id}}
	if m != nil {
		other := m[3]
		child, parent := quoted().FindAllString(m[2], -1), quoted().FindAllString(m[4], -1)
		var match, there []string
		for i := range min(len(child), len(parent)) {
			match = append(match, "p."+parent[i]+" = c."+child[i])
			there = append(there, "c."+child[i]+" IS NOT NULL")
		}
		o.Unchecked = add
		o.SQL = fmt.Sprintf("SET @rows_without_parent = (SELECT IF(EXISTS (SELECT 1 FROM %s c WHERE %s AND NOT "+
			"EXISTS (SELECT 1 FROM %s p WHERE %s)), (SELECT 1 UNION SELECT 2), 0));\n", id, strings.Join(there,
			" AND "), other, strings.Join(match, " AND ")) + add
		if strings.Contains(other, ".") {
			o.Section, o.Beside, o.Locks = engine.Active, "", nil
		} else {
			o.Needs = append(o.Needs, "table "+other)
			o.Locks = append(o.Locks, other)
		}
	}
	r.add(o)
}
