package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
)

// table is a table under construction.
type table struct {
	oid      uint32
	id       string
	schema   string
	name     string
	unlogged bool
	options  string
	identity string // replica identity
	bytes    int64
	blocks   int64 // 0 where ranges of them cannot be read fast
	rows     int64
	columns  []column
}

type column struct {
	num       int16
	name      string
	quoted    string // as SQL writes it
	typ       string
	collation string
	notNull   bool
	identity  string // a or d
	sequence  string // options of an identity column's sequence
	generated string // s
	def       string
	storage   string // set only where it is not the type's own
	compress  string
	stats     int32
	options   string
}

func (r *catalogReader) readTables(ctx context.Context) error {
	var list []*table
	byOID := map[uint32]*table{}
	blocks := "0"
	if r.version >= 140000 { // before, a range of blocks reads the whole table
		blocks = "pg_relation_size(c.oid) / current_setting('block_size')::bigint"
	}
	err := r.rows(ctx, `SELECT c.oid, c.reltype, n.nspname::text, c.relname::text, format('%I.%I', n.nspname, c.relname), c.relpersistence = 'u',
		coalesce(array_to_string(c.reloptions, ', '), ''), c.relreplident::text, pg_table_size(c.oid), `+blocks+`, c.reltuples::bigint,
		(SELECT t.typarray FROM pg_type t WHERE t.oid = c.reltype)
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind = 'r' AND c.relpersistence <> 't' AND `+ours+` AND `+notMember("pg_class", "c.oid"), func(rows pgx.Rows) error {
		t := &table{}
		var rowType uint32
		var array *uint32
		if err := rows.Scan(&t.oid, &rowType, &t.schema, &t.name, &t.id, &t.unlogged, &t.options, &t.identity, &t.bytes, &t.blocks, &t.rows, &array); err != nil {
			return err
		}
		r.alias[key{"pg_type", rowType}] = key{"pg_class", t.oid}
		if array != nil {
			r.alias[key{"pg_type", *array}] = key{"pg_class", t.oid}
		}
		r.tableID[t.oid] = t.id
		byOID[t.oid] = t
		list = append(list, t)
		return nil
	})
	if err != nil {
		return err
	}
	if err := r.columns(ctx, byOID); err != nil {
		return err
	}
	cyclic, err := r.cyclicDefaults(ctx)
	if err != nil {
		return err
	}
	for _, t := range list {
		r.addTable(t, cyclic)
	}
	return nil
}

func (r *catalogReader) columns(ctx context.Context, tables map[uint32]*table) error {
	compression := "''"
	if r.version >= 140000 {
		compression = "a.attcompression::text"
	}
	return r.rows(ctx, `SELECT a.attrelid, a.attnum, a.attname::text, quote_ident(a.attname), format_type(a.atttypid, a.atttypmod),
		CASE WHEN a.attcollation <> t.typcollation AND a.attcollation <> 0 THEN
			(SELECT format('%I.%I', cn.nspname, co.collname) FROM pg_collation co JOIN pg_namespace cn ON cn.oid = co.collnamespace WHERE co.oid = a.attcollation)
			ELSE '' END,
		a.attnotnull, a.attidentity::text, a.attgenerated::text, coalesce(pg_get_expr(d.adbin, d.adrelid), ''),
		CASE WHEN a.attstorage <> t.typstorage THEN a.attstorage::text ELSE '' END,
		`+compression+`, coalesce(a.attstattarget::int, -1), coalesce(array_to_string(a.attoptions, ', '), ''), d.oid IS NOT NULL
		FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		JOIN pg_type t ON t.oid = a.atttypid
		LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
		WHERE a.attnum > 0 AND NOT a.attisdropped AND c.relkind = 'r' AND c.relpersistence <> 't' AND `+ours+`
		ORDER BY a.attrelid, a.attnum`, func(rows pgx.Rows) error {
		var c column
		var oid uint32
		var hasDefault bool
		if err := rows.Scan(&oid, &c.num, &c.name, &c.quoted, &c.typ, &c.collation, &c.notNull, &c.identity, &c.generated, &c.def,
			&c.storage, &c.compress, &c.stats, &c.options, &hasDefault); err != nil {
			return err
		}
		t := tables[oid]
		if t == nil {
			return nil // a member of an extension
		}
		if hasDefault {
			def := &c.def
			if c.def == "" {
				def = nil
			}
			if _, err := define("the default of", t.id+"."+c.quoted, def); err != nil {
				return err
			}
		}
		c.sequence = r.identity[place{oid, c.num}]
		t.columns = append(t.columns, c)
		return nil
	})
}

// cyclicDefaults finds the defaults whose functions need the very table: they are
// set after the table and the functions are there.
func (r *catalogReader) cyclicDefaults(ctx context.Context) (map[place]bool, error) {
	cyclic := map[place]bool{}
	err := r.rows(ctx, `WITH RECURSIVE start AS (
			SELECT d.adrelid, d.adnum, x.refclassid, x.refobjid FROM pg_attrdef d
			JOIN pg_depend x ON x.classid = 'pg_attrdef'::regclass AND x.objid = d.oid
			WHERE x.refclassid = 'pg_proc'::regclass AND x.refobjid >= 16384),
		reach AS (
			SELECT * FROM start
			UNION SELECT r.adrelid, r.adnum, x.refclassid, x.refobjid FROM reach r
			JOIN pg_depend x ON x.classid = r.refclassid AND x.objid = r.refobjid AND x.deptype <> 'e' AND x.refobjid >= 16384)
		SELECT DISTINCT r.adrelid, r.adnum FROM reach r LEFT JOIN pg_type t ON r.refclassid = 'pg_type'::regclass AND t.oid = r.refobjid
		WHERE r.refclassid = 'pg_class'::regclass AND r.refobjid = r.adrelid OR t.typrelid = r.adrelid`, func(rows pgx.Rows) error {
		var oid uint32
		var num int16
		if err := rows.Scan(&oid, &num); err != nil {
			return err
		}
		cyclic[place{oid, num}] = true
		return nil
	})
	return cyclic, err
}

// addTable makes the table's object, the settings that come after it, and the
// description of its rows.
func (r *catalogReader) addTable(t *table, cyclic map[place]bool) {
	self := key{"pg_class", t.oid}
	var lines, after, dumped, listed []string
	for i := range t.columns {
		c := &t.columns[i]
		if c.generated == "" {
			dumped = append(dumped, c.name)
			listed = append(listed, c.quoted)
		}
		inline := c.generated != "" || !cyclic[place{t.oid, c.num}]
		lines = append(lines, "    "+c.definition(inline))
		if !inline {
			n := r.also(rankDefault, engine.Object{Kind: "default", Name: t.id + "." + quote(c.name), Table: t.id, Section: engine.Finish,
				SQL: fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s SET DEFAULT %s;\n", t.id, c.quoted, c.def)}, self)
			n.late = true
			r.laterDefault[place{t.oid, c.num}] = n
		}
		after = append(after, c.settings(t.id)...)
	}
	word := "CREATE TABLE "
	if t.unlogged {
		word = "CREATE UNLOGGED TABLE "
	}
	sql := word + t.id + " ()"
	if len(lines) > 0 {
		sql = word + t.id + " (\n" + strings.Join(lines, ",\n") + "\n)"
	}
	if t.options != "" {
		sql += " WITH (" + t.options + ")"
	}
	sql += ";\n" + strings.Join(after, "")
	r.add("pg_class", t.oid, rankTable, engine.Object{Kind: "table", Name: t.id, Table: t.id, Section: engine.Schema, SQL: sql})
	switch t.identity {
	case "f":
		r.also(rankIdentity, engine.Object{Kind: "replica identity", Name: t.id, Table: t.id, Section: engine.Finish,
			SQL: "ALTER TABLE " + t.id + " REPLICA IDENTITY FULL;\n"}, self)
	case "n":
		r.also(rankIdentity, engine.Object{Kind: "replica identity", Name: t.id, Table: t.id, Section: engine.Finish,
			SQL: "ALTER TABLE " + t.id + " REPLICA IDENTITY NOTHING;\n"}, self)
	}
	list := ""
	if len(listed) > 0 {
		list = " (" + strings.Join(listed, ", ") + ")"
	}
	r.tables = append(r.tables, engine.Table{
		ID: t.id, Schema: t.schema, Name: t.name, Columns: dumped, Bytes: t.bytes, Rows: t.rows,
		Frame:  engine.Framing{Head: "COPY " + t.id + list + " FROM stdin;\n", RowEnd: "\n", GroupEnd: "\n", Tail: "\\.\n", Always: true},
		Handle: handle{t.id, strings.Join(listed, ", ")}, Blocks: t.blocks,
	})
}

func (c *column) definition(withDefault bool) string {
	s := c.quoted + " " + c.typ
	if c.collation != "" {
		s += " COLLATE " + c.collation
	}
	switch {
	case c.identity == "a":
		s += " GENERATED ALWAYS AS IDENTITY" + c.sequence
	case c.identity == "d":
		s += " GENERATED BY DEFAULT AS IDENTITY" + c.sequence
	case c.generated == "s":
		s += " GENERATED ALWAYS AS (" + c.def + ") STORED"
	case c.generated == "v":
		s += " GENERATED ALWAYS AS (" + c.def + ") VIRTUAL"
	case c.def != "" && withDefault:
		s += " DEFAULT " + c.def
	}
	if c.notNull {
		s += " NOT NULL"
	}
	return s
}

// settings are what CREATE TABLE cannot say about a column.
func (c *column) settings(table string) (list []string) {
	set := func(format string, args ...any) {
		list = append(list, fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s ", table, c.quoted)+fmt.Sprintf(format, args...)+";\n")
	}
	if w := map[string]string{"p": "PLAIN", "e": "EXTERNAL", "m": "MAIN", "x": "EXTENDED"}[c.storage]; w != "" {
		set("SET STORAGE %s", w)
	}
	if w := map[string]string{"p": "pglz", "l": "lz4"}[c.compress]; w != "" {
		set("SET COMPRESSION %s", w)
	}
	if c.stats >= 0 {
		set("SET STATISTICS %d", c.stats)
	}
	if c.options != "" {
		set("SET (%s)", c.options)
	}
	return list
}
