package postgres

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"
)

type column struct {
	num       int16
	name      string
	quoted    string // as SQL writes it
	typ       string
	collation string
	notNull   notNull
	local     bool   // not, or not only, inherited
	identity  string // a or d
	sequence  string // options of an identity column's sequence
	retyped   string // statement that gives that sequence another type than its column's
	generated string // s
	def       string
	later     bool   // the default is set when everything is there
	storage   string // set only where it is not the type's own
	compress  string
	stats     int32
	options   string
	foreign   string // options of a foreign table's column
}

// notNull says that a column takes no NULL. Since version 18 that is a constraint,
// with a name and all.
type notNull struct {
	set         bool
	name        string // as SQL writes it; empty before version 18
	local       bool
	inherited   bool
	noInherit   bool
	unvalidated bool // NULLs may be there: it comes after the rows
}

func (c *column) required() string {
	n := c.notNull
	switch {
	case !n.set || n.unvalidated:
		return ""
	case n.name == "":
		return " NOT NULL"
	case n.noInherit:
		return " CONSTRAINT " + n.name + " NOT NULL NO INHERIT"
	}
	return " CONSTRAINT " + n.name + " NOT NULL"
}

func (r *catalogReader) columns(ctx context.Context, tables map[uint32]*table) error {
	compression := "''"
	if r.version >= 140000 {
		compression = "a.attcompression::text"
	}
	return r.rows(ctx, `SELECT a.attrelid, a.attnum, a.attname::text, quote_ident(a.attname), format_type(a.atttypid, a.atttypmod),
		CASE WHEN a.attcollation <> t.typcollation AND a.attcollation <> 0 THEN `+collationOf("a.attcollation")+` ELSE '' END,
		a.attnotnull, coalesce(quote_ident(k.conname), ''), coalesce(k.conislocal, true), coalesce(k.coninhcount > 0, true), coalesce(k.connoinherit, false), NOT coalesce(k.convalidated, true), a.attislocal, a.attidentity::text, a.attgenerated::text, coalesce(pg_get_expr(d.adbin, d.adrelid), ''),
		CASE WHEN a.attstorage <> t.typstorage THEN a.attstorage::text ELSE '' END,
		`+compression+`, coalesce(a.attstattarget::int, -1), coalesce((SELECT string_agg(o, ', ') FROM unnest(a.attoptions) o WHERE split_part(o, '=', 1) IN ('n_distinct', 'n_distinct_inherited')), ''), `+optionList("a.attfdwoptions")+`, d.oid IS NOT NULL
		FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		JOIN pg_type t ON t.oid = a.atttypid
		LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
		LEFT JOIN pg_constraint k ON k.contype = 'n' AND k.conrelid = a.attrelid AND k.conkey[1] = a.attnum
		WHERE a.attnum > 0 AND NOT a.attisdropped AND c.relkind IN ('r', 'p', 'f', 'm') AND c.relpersistence <> 't' AND `+ours+`
		ORDER BY a.attrelid, a.attnum`, func(rows pgx.Rows) error {
		var c column
		var oid uint32
		var hasDefault bool
		if err := rows.Scan(&oid, &c.num, &c.name, &c.quoted, &c.typ, &c.collation, &c.notNull.set, &c.notNull.name, &c.notNull.local, &c.notNull.inherited, &c.notNull.noInherit, &c.notNull.unvalidated, &c.local, &c.identity, &c.generated, &c.def,
			&c.storage, &c.compress, &c.stats, &c.options, &c.foreign, &hasDefault); err != nil {
			return err
		}
		t := tables[oid]
		if t == nil {
			return nil // made after the snapshot
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
		if q := r.identity[place{oid, c.num}]; q != nil {
			c.sequence = q.options
			if q.typ != c.typ {
				c.retyped = "ALTER SEQUENCE " + q.name + " AS " + q.typ + " " + q.bounds + ";\n"
			}
		}
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

// definition is a column in a list of columns.
func (c *column) definition(partition bool) string {
	return c.quoted + " " + c.typ + c.collate() + c.foreign + c.constraints(partition)
}

// ofType is what a typed table says of a column; nothing, if it adds nothing.
func (c *column) ofType() string {
	if s := c.constraints(false); s != "" {
		return c.quoted + " WITH OPTIONS" + s
	}
	return ""
}

func (c *column) collate() string {
	if c.collation == "" {
		return ""
	}
	return " COLLATE " + c.collation
}

// constraints are the identity, the default and NOT NULL. A partition of version 17
// has its parent's identity.
func (c *column) constraints(partition bool) string {
	if partition && c.sequence == "" {
		return c.valued() + c.required()
	}
	return c.identified() + c.valued() + c.required()
}

func (c *column) identified() string {
	switch c.identity {
	case "a":
		return " GENERATED ALWAYS AS IDENTITY" + c.sequence
	case "d":
		return " GENERATED BY DEFAULT AS IDENTITY" + c.sequence
	}
	return ""
}

// valued is where values come from that nobody gives.
func (c *column) valued() (s string) {
	switch {
	case c.generated == "s":
		s = " GENERATED ALWAYS AS (" + c.def + ") STORED"
	case c.generated == "v":
		s = " GENERATED ALWAYS AS (" + c.def + ") VIRTUAL"
	case c.def != "" && !c.later:
		s = " DEFAULT " + c.def
	}
	return s
}

// settings are what CREATE TABLE cannot say about a column.
func (c *column) settings(table string) (list []string) {
	set := func(format string, args ...any) {
		list = append(list, fmt.Sprintf("ALTER TABLE ONLY %s ALTER COLUMN %s ", table, c.quoted)+fmt.Sprintf(format, args...)+";\n")
	}
	if w := map[string]string{"p": "PLAIN", "e": "EXTERNAL", "m": "MAIN", "x": "EXTENDED"}[c.storage]; w != "" {
		set("SET STORAGE %s", w)
	}
	if w := map[string]string{"p": "pglz", "l": "lz4"}[c.compress]; w != "" {
		set("SET COMPRESSION %s", w)
	}
	if c.retyped != "" {
		list = append(list, c.retyped)
	}
	if c.stats >= 0 {
		set("SET STATISTICS %d", c.stats)
	}
	if c.options != "" {
		set("SET (%s)", c.options)
	}
	return list
}
