package postgres

import (
	"context"
	"fmt"
	"sort"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// key is an object's address in the catalogs: the class (a catalog's name) and
// the OID in it.
type key struct {
	class string
	oid   uint32
}

// node is an object with what it needs.
type node struct {
	key
	obj   engine.Object
	rank  int // among objects that do not need each other
	needs []key
	late  bool // belongs to the finish unless rows need it
}

// The ranks: what comes first when nothing else decides.
const (
	rankSchema = iota
	rankType
	rankFunction
	rankSequence
	rankTable
	rankDefault
	rankSequenceOwner
	rankColumnOption
	rankKey
	rankView
	rankIndex
	rankCheck
	rankReference
	rankTrigger
	rankIdentity
	rankSequenceValue
	rankComment
	rankOwner
	rankGrant
)

// ours restricts a query on namespace n to the schemas that are dumped.
const ours = `n.nspname !~ '^pg_' AND n.nspname NOT IN ('information_schema', 'grainkeep_scratch')`

// notMember leaves out the members of extensions.
func notMember(class, oid string) string {
	return fmt.Sprintf(`NOT EXISTS (SELECT FROM pg_depend x WHERE x.classid = '%s'::regclass AND x.objid = %s AND x.deptype = 'e')`, class, oid)
}

type catalogReader struct {
	c            *pgx.Conn
	version      int
	nodes        map[key]*node
	alias        map[key]key // objects that stand for another: a row type for its table
	extra        []*node     // nodes without an address of their own
	tables       []engine.Table
	tableID      map[uint32]string // Table.ID by OID
	seqs         []sequence
	identity     map[place]string // the sequences of identity columns
	laterDefault map[place]*node  // defaults that are set after the table
	warns        []string
}

// readCatalog reads all that a database holds, inside the snapshot of c.
func readCatalog(ctx context.Context, c *pgx.Conn, version int, database string) (*engine.Catalog, error) {
	r := &catalogReader{c: c, version: version, nodes: map[key]*node{}, alias: map[key]key{},
		tableID: map[uint32]string{}, identity: map[place]string{}, laterDefault: map[place]*node{}}
	facts, err := r.facts(ctx)
	if err != nil {
		return nil, err
	}
	if err := r.refuse(ctx, database); err != nil {
		return nil, err
	}
	for _, step := range []func(context.Context) error{
		r.schemas, r.enums, r.domains, r.functions, r.sequences, r.readTables, r.constraints, r.indexes,
		r.views, r.triggers, r.sequenceStates, r.comments, r.owners, r.grants, r.dependencies,
	} {
		if err := step(ctx); err != nil {
			return nil, err
		}
	}
	objects, err := r.order()
	if err != nil {
		return nil, err
	}
	sort.Slice(r.tables, func(a, b int) bool { return r.tables[a].ID < r.tables[b].ID })
	return &engine.Catalog{Facts: facts, Header: settings, Tables: r.tables, Objects: objects,
		Warnings: r.warns, CountSQL: countSQL(r.tables)}, nil
}

func countSQL(tables []engine.Table) string {
	var b strings.Builder
	for _, t := range tables {
		fmt.Fprintf(&b, "SELECT %s, count(*) FROM ONLY %s;\n", literal(t.ID), t.ID)
	}
	return b.String()
}

// facts are the properties that a database is made with.
func (r *catalogReader) facts(ctx context.Context) (map[string]string, error) {
	provider := "'c'"
	if r.version >= 150000 {
		provider = "datlocprovider::text"
	}
	locale := "''"
	switch {
	case r.version >= 170000:
		locale = "coalesce(datlocale, '')"
	case r.version >= 150000:
		locale = "coalesce(daticulocale, '')"
	}
	var encoding, collate, ctype, prov, loc string
	err := r.c.QueryRow(ctx, `SELECT pg_encoding_to_char(encoding), datcollate::text, datctype::text, `+provider+`, `+locale+`
		FROM pg_database WHERE datname = current_database()`).Scan(&encoding, &collate, &ctype, &prov, &loc)
	f := map[string]string{"encoding": encoding, "collate": collate, "ctype": ctype}
	if prov != "c" {
		f["provider"], f["locale"] = prov, loc
	}
	return f, err
}

// rows runs a query and calls f for each row.
func (r *catalogReader) rows(ctx context.Context, sql string, f func(pgx.Rows) error) error {
	rows, err := r.c.Query(ctx, sql)
	if err != nil {
		return fmt.Errorf("reading the catalog: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		if err := f(rows); err != nil {
			return fmt.Errorf("reading the catalog: %w", err)
		}
	}
	if err := rows.Err(); err != nil {
		return fmt.Errorf("reading the catalog: %w", err)
	}
	return nil
}

func (r *catalogReader) add(class string, oid uint32, rank int, o engine.Object, needs ...key) *node {
	n := &node{key: key{class, oid}, obj: o, rank: rank, needs: needs}
	r.nodes[n.key] = n
	return n
}

// also adds an object without an address, such as a grant.
func (r *catalogReader) also(rank int, o engine.Object, needs ...key) *node {
	n := &node{obj: o, rank: rank, needs: needs}
	r.extra = append(r.extra, n)
	return n
}

// define checks that a definition function found its object.
func define(what, name string, def *string) (string, error) {
	if def == nil {
		return "", fault.New("object-gone", nil, "%s %s was dropped while its definition was read", what, name).
			Advise("take the dump again")
	}
	return *def, nil
}

func (r *catalogReader) schemas(ctx context.Context) error {
	hasPublic := false
	err := r.rows(ctx, `SELECT n.oid, quote_ident(n.nspname) FROM pg_namespace n
		WHERE `+ours+` AND `+notMember("pg_namespace", "n.oid"), func(rows pgx.Rows) error {
		var oid uint32
		var name string
		if err := rows.Scan(&oid, &name); err != nil {
			return err
		}
		sql := "CREATE SCHEMA " + name + ";\n"
		if name == "public" {
			hasPublic, sql = true, "" // a new database has it
		}
		r.add("pg_namespace", oid, rankSchema, engine.Object{Kind: "schema", Name: name, Section: engine.Schema, SQL: sql})
		return nil
	})
	if err == nil && !hasPublic {
		r.also(rankSchema, engine.Object{Kind: "absence", Name: "public", Section: engine.Schema, SQL: "DROP SCHEMA IF EXISTS public;\n"})
	}
	return err
}

func (r *catalogReader) enums(ctx context.Context) error {
	return r.rows(ctx, `SELECT t.oid, t.typarray, format('%I.%I', n.nspname, t.typname),
		(SELECT coalesce(string_agg(quote_literal(e.enumlabel), ', ' ORDER BY e.enumsortorder), '') FROM pg_enum e WHERE e.enumtypid = t.oid)
		FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace
		WHERE t.typtype = 'e' AND `+ours+` AND `+notMember("pg_type", "t.oid"), func(rows pgx.Rows) error {
		var oid, array uint32
		var name, labels string
		if err := rows.Scan(&oid, &array, &name, &labels); err != nil {
			return err
		}
		r.alias[key{"pg_type", array}] = key{"pg_type", oid}
		r.add("pg_type", oid, rankType, engine.Object{Kind: "enum type", Name: name, Section: engine.Schema,
			SQL: "CREATE TYPE " + name + " AS ENUM (" + labels + ");\n"})
		return nil
	})
}

func (r *catalogReader) domains(ctx context.Context) error {
	return r.rows(ctx, `SELECT t.oid, t.typarray, format('%I.%I', n.nspname, t.typname), format_type(t.typbasetype, t.typtypmod),
		CASE WHEN t.typcollation <> b.typcollation AND t.typcollation <> 0
			THEN (SELECT format(' COLLATE %I.%I', cn.nspname, co.collname) FROM pg_collation co JOIN pg_namespace cn ON cn.oid = co.collnamespace WHERE co.oid = t.typcollation)
			ELSE '' END
		|| coalesce(' DEFAULT ' || coalesce(pg_get_expr(t.typdefaultbin, 0), quote_literal(t.typdefault)), '')
		|| CASE WHEN t.typnotnull THEN ' NOT NULL' ELSE '' END
		FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace JOIN pg_type b ON b.oid = t.typbasetype
		WHERE t.typtype = 'd' AND `+ours+` AND `+notMember("pg_type", "t.oid"), func(rows pgx.Rows) error {
		var oid, array uint32
		var name, base string
		var rest *string
		if err := rows.Scan(&oid, &array, &name, &base, &rest); err != nil {
			return err
		}
		def, err := define("domain", name, rest)
		if err != nil {
			return err
		}
		r.alias[key{"pg_type", array}] = key{"pg_type", oid}
		r.add("pg_type", oid, rankType, engine.Object{Kind: "domain", Name: name, Section: engine.Schema,
			SQL: "CREATE DOMAIN " + name + " AS " + base + def + ";\n"})
		return nil
	})
}

func (r *catalogReader) functions(ctx context.Context) error {
	return r.rows(ctx, `SELECT p.oid, p.prokind::text, (pg_identify_object('pg_proc'::regclass, p.oid, 0)).identity, pg_get_functiondef(p.oid)
		FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
		WHERE p.prokind IN ('f', 'p', 'w') AND `+ours+` AND `+notMember("pg_proc", "p.oid"), func(rows pgx.Rows) error {
		var oid uint32
		var kind string
		var name, def *string
		if err := rows.Scan(&oid, &kind, &name, &def); err != nil {
			return err
		}
		if name == nil {
			return fault.New("object-gone", nil, "a function was dropped while its definition was read").Advise("take the dump again")
		}
		sql, err := define("function", *name, def)
		if err != nil {
			return err
		}
		word := "function"
		if kind == "p" {
			word = "procedure"
		}
		r.add("pg_proc", oid, rankFunction, engine.Object{Kind: word, Name: *name, Section: engine.Schema,
			SQL: strings.TrimSuffix(sql, "\n") + ";\n"})
		return nil
	})
}

func (r *catalogReader) views(ctx context.Context) error {
	return r.rows(ctx, `SELECT c.oid, c.reltype, format('%I.%I', n.nspname, c.relname), array_to_string(c.reloptions, ', '), pg_get_viewdef(c.oid),
		(SELECT string_agg(format('ALTER VIEW %I.%I ALTER COLUMN %I SET DEFAULT %s;', n.nspname, c.relname, a.attname, pg_get_expr(d.adbin, d.adrelid)), E'\n' ORDER BY a.attnum)
			FROM pg_attrdef d JOIN pg_attribute a ON a.attrelid = d.adrelid AND a.attnum = d.adnum WHERE d.adrelid = c.oid)
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind = 'v' AND `+ours+` AND `+notMember("pg_class", "c.oid"), func(rows pgx.Rows) error {
		var oid, rowType uint32
		var name string
		var options, def, defaults *string
		if err := rows.Scan(&oid, &rowType, &name, &options, &def, &defaults); err != nil {
			return err
		}
		body, err := define("view", name, def)
		if err != nil {
			return err
		}
		with := ""
		if options != nil && *options != "" {
			with = " WITH (" + *options + ")"
		}
		sql := "CREATE VIEW " + name + with + " AS\n" + body + "\n"
		if defaults != nil {
			sql += *defaults + "\n"
		}
		r.alias[key{"pg_type", rowType}] = key{"pg_class", oid}
		r.add("pg_class", oid, rankView, engine.Object{Kind: "view", Name: name, Section: engine.Finish, SQL: sql}).late = true
		return nil
	})
}

func (r *catalogReader) triggers(ctx context.Context) error {
	states := map[string]string{"D": "DISABLE", "R": "ENABLE REPLICA", "A": "ENABLE ALWAYS"}
	return r.rows(ctx, `SELECT t.oid, t.tgrelid, t.tgenabled::text, quote_ident(t.tgname), format('%I.%I', n.nspname, c.relname), pg_get_triggerdef(t.oid), c.relkind::text
		FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE NOT t.tgisinternal AND `+ours+` AND `+notMember("pg_trigger", "t.oid"), func(rows pgx.Rows) error {
		var oid, table uint32
		var enabled, name, on, relkind string
		var def *string
		if err := rows.Scan(&oid, &table, &enabled, &name, &on, &def, &relkind); err != nil {
			return err
		}
		sql, err := define("trigger", name, def)
		if err != nil {
			return err
		}
		sql += ";\n"
		if word := states[enabled]; word != "" {
			sql += "ALTER TABLE " + on + " " + word + " TRIGGER " + name + ";\n"
		}
		r.add("pg_trigger", oid, rankTrigger, engine.Object{Kind: "trigger", Name: name + " on " + on, Table: r.tableID[table],
			Section: engine.Finish, SQL: sql}, key{"pg_class", table}).late = true
		return nil
	})
}
