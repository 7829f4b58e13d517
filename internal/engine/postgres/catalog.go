package postgres

import (
	"context"
	"errors"
	"fmt"
	"sort"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

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

	stub  *engine.Object // an outline that is enough for others in a circle
	whole string         // the SQL that fills the outline, where it is another
}

// The ranks: what comes first when nothing else decides.
const (
	rankSchema = iota
	rankExtension
	rankType
	rankFunction
	rankOperator
	rankFamily
	rankClass
	rankSequence
	rankTable
	rankAttach
	rankDefault
	rankSequenceOwner
	rankColumnOption
	rankKey
	rankView
	rankIndex
	rankRefresh
	rankCheck
	rankReference
	rankTrigger
	rankIdentity
	rankSequenceValue
	rankComment
	rankOwner
	rankGrant
	rankDefaultGrant
	rankActive
	rankWatching // event triggers: nothing that follows sets them off
)

// ours restricts a query on namespace n to the schemas that are dumped.
const ours = `n.nspname !~ '^pg_' AND n.nspname <> 'information_schema' AND ` + unmarked

// unmarked leaves out the mark of a scratch database, in a session that says that there is one.
const unmarked = `n.nspname IS DISTINCT FROM current_setting('grainkeep.mark', true)`

// notMember leaves out the members of extensions.
func notMember(class, oid string) string {
	return fmt.Sprintf(`NOT EXISTS (SELECT FROM pg_depend x WHERE x.classid = '%s'::regclass AND x.objid = %s AND
		x.deptype = 'e')`, class, oid)
}

// laterThanExtension leaves out what an extension made with a thing of its own, such as a
// trigger on its table: there is no record that this belongs to it, but both were made in
// one transaction. What was made later is somebody's.
func laterThanExtension(row, class, oid string) string {
	return fmt.Sprintf(`NOT EXISTS (SELECT FROM pg_depend x WHERE x.classid = '%s'::regclass AND x.objid = %s AND
		x.deptype = 'e' AND x.xmin = %s.xmin)`, class, oid, row)
}

// changedByHand says of a row about a thing of an extension's whether somebody wrote it, if
// need be later in the transaction that made the extension. To take an extension's last words
// for somebody's does no harm.
func changedByHand(row, class, oid string) string {
	return fmt.Sprintf(`%[1]s.cmin::text::bigint > coalesce((SELECT max(x.cmin::text::bigint) FROM pg_depend x
		WHERE x.deptype = 'e' AND x.xmin = %[1]s.xmin AND x.refobjid = (SELECT y.refobjid FROM pg_depend y
			WHERE y.classid = %[2]s AND y.objid = %[3]s AND y.deptype = 'e' LIMIT 1)), -1)`, row, class, oid)
}

type catalogReader struct {
	c            *pgx.Conn
	version      int
	encoding     string
	helper       string              // a schema's name that nobody else has
	ownPath      string              // the search path that the database has of its own
	loose        map[key]bool        // functions that rely on whatever search path there is
	careful      map[string][]uint32 // tables where a row may call functions, and what they are partitions of
	nodes        map[key]*node
	alias        map[key]key // objects that stand for another: a row type for its table
	extra        []*node     // nodes without an address of their own
	tables       []engine.Table
	tableID      map[uint32]string // Table.ID by OID
	seqs         []sequence
	identity     map[place]*sequence // the sequences of identity columns
	laterDefault map[place]*node     // defaults that are set after the table
	member       map[key]key         // the extension that an object belongs to
	parentage    map[uint32]bool     // tables that have children
	children     map[key][]key       // the foreign keys of partitions, by their parents'
	warns        []string
	secrets      []string // roles whose passwords are left out
}

// readCatalog reads all that a database holds, inside the snapshot of c.
func readCatalog(ctx context.Context, c *pgx.Conn, version int) (*engine.Catalog, error) {
	r := &catalogReader{c: c, version: version, nodes: map[key]*node{}, alias: map[key]key{}, member: map[key]key{},
		children: map[key][]key{}, parentage: map[uint32]bool{}, loose: map[key]bool{}, careful: map[string][]uint32{},
		tableID: map[uint32]string{}, identity: map[place]*sequence{}, laterDefault: map[place]*node{}}
	facts, err := r.facts(ctx)
	r.encoding, r.ownPath = facts["encoding"], facts[factPath]
	if err != nil {
		return nil, err
	}
	for _, step := range []struct {
		what string
		read func(context.Context) error
	}{
		{"schemas", r.schemas}, {"extensions", r.extensions}, {"types", r.types}, {"functions", r.functions},
		{"aggregates", r.aggregates}, {"operators", r.operators}, {"text search", r.textSearch}, {"foreign servers",
			r.foreign},
		{"sequences", r.sequences}, {"tables", r.readTables}, {"large objects", r.blobs}, {"views", r.views},
		{"constraints", r.constraints},
		{"indexes", r.indexes}, {"rules, policies and triggers", r.tabled}, {"sequence values", r.sequenceStates},
		{"publications and settings", r.active}, {"comments", r.comments}, {"security labels", r.labels},
		{"extension dependences", r.leans},
		{"owners", r.owners}, {"grants", r.grants}, {"default privileges", r.defaultGrants}, {"references in rows",
			r.pointers}, {"dependencies", r.dependencies},
	} {
		if err := step.read(ctx); err != nil {
			return nil, fmt.Errorf("reading %s: %w", step.what, vanished(err))
		}
	}
	r.paths()
	objects, err := r.order()
	if err != nil {
		return nil, err
	}
	sort.Slice(r.tables, func(a, b int) bool { return r.tables[a].ID < r.tables[b].ID })
	return &engine.Catalog{Facts: facts, Header: settings, Tables: r.tables, Objects: objects, Warnings: r.warns}, nil
}

// factsRow is a row of facts.sql.
type factsRow struct{ Encoding, Collate, Ctype, Provider, Locale, Rules, Path, Tablespace string }

// facts are the properties that a database is made with.
func (r *catalogReader) facts(ctx context.Context) (map[string]string, error) {
	f := map[string]string{}
	return f, each(ctx, r, "facts", func(x *factsRow) error {
		f["encoding"], f["collate"], f["ctype"] = x.Encoding, x.Collate, x.Ctype
		if x.Provider != "c" {
			f["provider"], f["locale"] = x.Provider, x.Locale
		}
		for name, value := range map[string]string{factPath: x.Path, factRules: x.Rules, factTablespace: x.Tablespace} {
			if value != "" {
				f[name] = value
			}
		}
		return nil
	})
}

// rows runs a query and calls f for each row.
func (r *catalogReader) rows(ctx context.Context, sql string, f func(pgx.Rows) error) error {
	rows, err := r.c.Query(ctx, sql)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := f(rows); err != nil {
			return err
		}
	}
	return rows.Err()
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
		return "", gone(what + " " + name)
	}
	return *def, nil
}

// vanished tells a server's confusion about an object that was dropped meanwhile from
// other errors: some of its functions fail then instead of giving nothing.
func vanished(err error) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "53200" {
		return fault.New("locks-short", nil, "the server has no room for more locks: %s", pg.Message).
			Advise("raise max_locks_per_transaction there, and restart it")
	}
	if errors.As(err, &pg) && (pg.Code == "XX000" && (strings.HasPrefix(pg.Message, "cache lookup failed") ||
		strings.HasPrefix(pg.Message, "could not ")) || pg.Code == "42704" || pg.Code == "42883" ||
		pg.Code == "42P01") {
		return gone("something (" + pg.Message + ")")
	}
	return err
}

// gone is the error about an object that the snapshot shows and the server's own
// functions do not find any more.
func gone(what string) error {
	return fault.New("object-gone", nil, "%s was dropped while its definition was read",
		what).Advise("take the dump again")
}

// schemasRow is a row of schemas.sql.
type schemasRow struct {
	OID  uint32
	Name string
}

func (r *catalogReader) schemas(ctx context.Context) error {
	hasPublic := false
	r.helper = "grainkeep_helper"
	err := each(ctx, r, "schemas", func(x *schemasRow) error {
		if strings.HasPrefix(x.Name, r.helper) {
			r.helper = x.Name + "_"
		}
		sql := "CREATE SCHEMA " + x.Name + ";\n"
		if x.Name == "public" {
			hasPublic, sql = true, "" // a new database has it
		}
		r.add("pg_namespace", x.OID, rankSchema, engine.Object{Kind: "schema", Name: x.Name, Section: engine.Schema,
			SQL: sql})
		return nil
	})
	if err == nil && !hasPublic {
		r.also(rankSchema, engine.Object{Kind: "absence", Name: "public", Section: engine.Schema,
			SQL: "DROP SCHEMA IF EXISTS public;\n"})
	}
	return err
}
