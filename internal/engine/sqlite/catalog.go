package sqlite

import (
	"context"
	"fmt"
	"regexp"
	"sort"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/pattern"
)

// settings are made on every connection that dumps, restores or reads back.
const settings = `PRAGMA foreign_keys=OFF;
PRAGMA ignore_check_constraints=ON;
PRAGMA recursive_triggers=OFF;
`

// carried are the kinds of virtual tables whose contents live in tables of
// their own, which are dumped as they are.
var carried = map[string]bool{"fts5": true, "rtree": true, "rtree_i32": true, "geopoly": true}

var usingModule = pattern.Of(`(?is)^CREATE\s+VIRTUAL\s+TABLE\s.*?\sUSING\s+"?(\w+)`)

var unique = pattern.Of(`(?i)^CREATE\s+UNIQUE`)

// collations that every SQLite library has.
var collations = map[string]bool{"BINARY": true, "NOCASE": true, "RTRIM": true}

// group is the size of one INSERT, in bytes of rows.
const group = 48 << 10

type entry struct{ kind, name, table, sql string }

type catalogReader struct {
	c    *conn
	cat  *engine.Catalog
	list map[string]tableInfo
	bad  []string // what cannot be carried
}

type tableInfo struct {
	kind         string // table, view, virtual, shadow
	withoutRowid bool
}

// readCatalog reads what a database holds, inside the transaction of c.
func readCatalog(ctx context.Context, c *conn) (*engine.Catalog, error) {
	r := &catalogReader{c: c, cat: &engine.Catalog{Facts: map[string]string{}}, list: map[string]tableInfo{}}
	for _, read := range []func(context.Context) error{r.facts, r.tableList, r.objects, r.state} {
		if err := read(ctx); err != nil {
			return nil, err
		}
	}
	if len(r.bad) > 0 {
		return nil, fault.New("cannot-carry", nil, "%s", strings.Join(r.bad, "; ")).
			Advise("this version cannot dump these; nothing was dumped")
	}
	sort.Slice(r.cat.Tables, func(a, b int) bool { return r.cat.Tables[a].ID < r.cat.Tables[b].ID })
	for i := range r.cat.Tables {
		t := &r.cat.Tables[i]
		t.Count = fmt.Sprintf("SELECT %s, count(*) FROM %s;\n", quoteText(t.ID), t.ID)
	}
	return r.cat, nil
}

func (r *catalogReader) facts(ctx context.Context) error {
	for _, p := range []string{"encoding", "page_size", "auto_vacuum", "journal_mode", "user_version",
		"application_id"} {
		v, err := r.c.value(ctx, "PRAGMA "+p)
		if err != nil {
			return err
		}
		r.cat.Facts[p] = v
	}
	f := r.cat.Facts
	if f["journal_mode"] != "wal" {
		f["journal_mode"] = "delete" // the others are not stored in the file
	}
	r.cat.Header = header(f)
	r.cat.Trailer = trailer
	return nil
}

const trailer = "COMMIT;\n"

// possible are the facts that a database can have: what a dump says becomes SQL.
var possible = map[string]func() *regexp.Regexp{
	"encoding": pattern.Of(`^UTF-(8|16le|16be)$`), "page_size": pattern.Of(`^[0-9]{3,5}$`),
	"auto_vacuum": pattern.Of(`^[012]$`), "journal_mode": pattern.Of(`^(delete|wal)$`),
	"user_version": pattern.Of(`^-?[0-9]{1,10}$`), "application_id": pattern.Of(`^-?[0-9]{1,10}$`),
}

// checkFacts fails for facts that no database has.
func checkFacts(f map[string]string) error {
	for name, form := range possible {
		if !form().MatchString(f[name]) {
			return fault.New("restore-failed", nil, "the dump's %s is %.40q, which no database has", name, f[name])
		}
	}
	return nil
}

func header(f map[string]string) string {
	return fmt.Sprintf("PRAGMA encoding='%s';\nPRAGMA page_size=%s;\nPRAGMA auto_vacuum=%s;\n%sBEGIN;\n",
		f["encoding"], f["page_size"], f["auto_vacuum"], settings)
}

func (r *catalogReader) tableList(ctx context.Context) error {
	return r.c.each(ctx, `SELECT name, type, wr FROM pragma_table_list WHERE schema='main'`, func(s *stmt) error {
		r.list[s.text(0)] = tableInfo{kind: s.text(1), withoutRowid: s.int(2) != 0}
		return nil
	})
}

func (r *catalogReader) objects(ctx context.Context) error {
	var entries []entry
	err := r.c.each(ctx, `SELECT type, name, tbl_name, sql FROM sqlite_schema
		WHERE sql IS NOT NULL AND name NOT LIKE 'sqlite\_%' ESCAPE '\' ORDER BY rowid`, func(s *stmt) error {
		entries = append(entries, entry{s.text(0), s.text(1), s.text(2), s.text(3)})
		return nil
	})
	if err != nil {
		return err
	}
	// Views may be used by triggers, and all of them by nothing that has rows.
	for _, kind := range []string{"table", "index", "view", "trigger"} {
		for _, e := range entries {
			if e.kind == kind {
				if err := r.object(ctx, e); err != nil {
					return fmt.Errorf("%s %s: %w", e.kind, quote(e.name), err)
				}
			}
		}
	}
	return nil
}

func (r *catalogReader) object(ctx context.Context, e entry) error {
	o := engine.Object{Kind: e.kind, Name: quote(e.name), Section: engine.Finish, SQL: statement(e.sql)}
	switch e.kind {
	case "table":
		return r.table(ctx, e, o)
	case "index":
		o.Table = quote(e.table)
		o.Rule = true
		if err := r.knownCollations(ctx, e); err != nil {
			return err
		}
		if unique().MatchString(e.sql) {
			o.Section = engine.Keys
		}
	case "trigger":
		o.Table = quote(e.table)
		o.Needs = r.mentioned(e.sql)
	case "view":
		o.Needs = r.mentioned(e.sql)
	}
	r.cat.Objects = append(r.cat.Objects, o)
	return nil
}

var word = pattern.Of("\\w+|\"(?:[^\"]|\"\")*\"|`(?:[^`]|``)*`|\\[[^]]*\\]")

// mentioned are the tables, and the views before this one, whose names stand in a
// definition. The library itself keeps no record of what needs what.
func (r *catalogReader) mentioned(sql string) (needs []string) {
	said := map[string]bool{}
	for _, w := range word().FindAllString(sql, -1) {
		said[strings.ToLower(strings.Trim(w, "\"`[]"))] = true
	}
	for _, o := range r.cat.Objects {
		if (o.Kind == "table" || o.Kind == "view") && said[strings.ToLower(strings.Trim(o.Name, `"`))] {
			needs = append(needs, o.ID())
		}
	}
	return needs
}

// statement ends a definition. One that ends in a comment, be it one that nobody closed, would
// swallow the semicolon.
func statement(sql string) string {
	if openComment(sql) {
		sql += "*/"
	}
	if last := sql[strings.LastIndexByte(sql, '\n')+1:]; strings.Contains(last, "--") {
		sql += "\n"
	}
	return sql + ";\n"
}

// openComment says whether a definition ends inside a comment of several lines.
func openComment(sql string) bool {
	for i := 0; i < len(sql); i++ {
		end := map[byte]string{'\'': "'", '"': `"`, '`': "`", '[': "]"}[sql[i]]
		switch {
		case strings.HasPrefix(sql[i:], "/*"):
			i, end = i+1, "*/"
		case strings.HasPrefix(sql[i:], "--"):
			i, end = i+1, "\n"
		}
		if end == "" {
			continue
		}
		at := strings.Index(sql[i+1:], end)
		if at < 0 {
			return end == "*/"
		}
		i += at + len(end)
	}
	return false
}

func (r *catalogReader) knownCollations(ctx context.Context, e entry) error {
	return r.c.each(ctx, "SELECT DISTINCT upper(coll) FROM pragma_index_xinfo("+quoteText(e.name)+")",
		func(s *stmt) error {
			if coll := s.text(0); coll != "" && !collations[coll] {
				r.bad = append(r.bad, fmt.Sprintf("index %s sorts by %s, a collation of the application's own",
					quote(e.name), coll))
			}
			return nil
		})
}

func (r *catalogReader) table(ctx context.Context, e entry, o engine.Object) error {
	o.Section = engine.Schema
	info := r.list[e.name]
	switch info.kind {
	case "virtual":
		m := usingModule().FindStringSubmatch(e.sql)
		if m == nil || !carried[strings.ToLower(m[1])] {
			module := "an unknown module"
			if m != nil {
				module = "the module " + m[1]
			}
			r.bad = append(r.bad, fmt.Sprintf("virtual table %s uses %s", quote(e.name), module))
			return nil
		}
		o.Kind = "virtual table"
		o.SQL += r.emptyShadows(e.name)
		r.cat.Objects = append(r.cat.Objects, o)
		return nil
	case "shadow":
	default:
		r.cat.Objects = append(r.cat.Objects, o)
	}
	t, err := r.rowsOf(ctx, e.name, info)
	if err != nil {
		return err
	}
	r.cat.Tables = append(r.cat.Tables, t)
	return nil
}

// emptyShadows empties the tables that a new virtual table comes with, so that
// the dumped rows can take their place.
func (r *catalogReader) emptyShadows(virtual string) string {
	var names []string
	for n, info := range r.list {
		if info.kind == "shadow" && strings.HasPrefix(n, virtual+"_") {
			names = append(names, n)
		}
	}
	sort.Strings(names)
	var b strings.Builder
	for _, n := range names {
		b.WriteString("DELETE FROM " + quote(n) + ";\n")
	}
	return b.String()
}

// rowsOf describes the columns that a table's rows are dumped with: every stored
// column, and the rowid where no column stands for it.
func (r *catalogReader) rowsOf(ctx context.Context, name string, info tableInfo) (engine.Table, error) {
	t := engine.Table{ID: quote(name), Name: name, Rows: -1}
	lower := map[string]bool{}
	byPlace := map[int64]string{}
	err := r.c.each(ctx, "SELECT name, pk, hidden FROM pragma_table_xinfo("+quoteText(name)+") ORDER BY cid",
		func(s *stmt) error {
			lower[strings.ToLower(s.text(0))] = true
			if s.int(1) > 0 {
				byPlace[s.int(1)] = quote(s.text(0))
			}
			if s.int(2) == 0 {
				t.Columns = append(t.Columns, s.text(0))
			}
			return nil
		})
	if err != nil {
		return t, err
	}
	var key []string
	for i := range len(byPlace) {
		key = append(key, byPlace[int64(i+1)])
	}
	alias, err := r.c.value(ctx, "SELECT count(*) FROM pragma_index_list("+quoteText(name)+") WHERE origin='pk'")
	if err != nil {
		return t, err
	}
	switch {
	case info.withoutRowid || len(key) == 1 && alias == "0":
		t.Key = key
	default:
		for _, n := range []string{"rowid", "_rowid_", "oid"} {
			if !lower[n] {
				t.Columns, t.Key = append([]string{n}, t.Columns...), []string{n}
				break
			}
		}
	}
	if len(t.Key) > 0 {
		t.Remove = removing(t)
	}
	t.Frame = engine.Framing{
		Head:   "INSERT INTO " + quote(name) + "(" + columnList(t.Columns) + ") VALUES\n",
		RowEnd: ",\n", GroupEnd: ";\n", Group: group,
	}
	return t, nil
}

func columnList(columns []string) string {
	q := make([]string, len(columns))
	for i, c := range columns {
		q[i] = quote(c)
	}
	return strings.Join(q, ",")
}

// state reads what is neither structure nor rows: where automatic numbers stand,
// the planner's statistics, and the numbers in the header that applications read.
func (r *catalogReader) state(ctx context.Context) error {
	if _, ok := r.list["sqlite_sequence"]; ok {
		err := r.c.each(ctx, "SELECT name, seq FROM sqlite_sequence ORDER BY name, rowid", func(s *stmt) error {
			n := quoteText(s.text(0))
			r.add("automatic number", quote(s.text(0)), fmt.Sprintf(
				"DELETE FROM sqlite_sequence WHERE name=%s;\nINSERT INTO sqlite_sequence(name,seq) VALUES(%s,%s);\n",
				n, n, appendValue(nil, s, 1, s.kind(1), "")), quote(s.text(0)))
			return nil
		})
		if err != nil {
			return err
		}
	}
	if _, ok := r.list["sqlite_stat1"]; ok {
		// ANALYZE of the schema table alone makes the statistics table, empty.
		sql := "ANALYZE sqlite_schema;\nDELETE FROM sqlite_stat1;\n"
		err := r.c.each(ctx, "SELECT tbl, idx, stat FROM sqlite_stat1 ORDER BY 1, 2", func(s *stmt) error {
			sql += fmt.Sprintf("INSERT INTO sqlite_stat1(tbl,idx,stat) VALUES(%s,%s,%s);\n",
				appendValue(nil, s, 0, s.kind(0), ""), appendValue(nil, s, 1, s.kind(1), ""), appendValue(nil, s, 2,
					s.kind(2), ""))
			return nil
		})
		if err != nil {
			return err
		}
		r.add("statistics", "planner", sql, "")
	}
	for _, p := range []string{"user_version", "application_id"} {
		if v := r.cat.Facts[p]; v != "0" {
			r.add("setting", p, fmt.Sprintf("PRAGMA %s=%s;\n", p, v), "")
		}
	}
	return nil
}

func (r *catalogReader) add(kind, name, sql, table string) {
	r.cat.Objects = append(r.cat.Objects, engine.Object{Kind: kind, Name: name, Table: table, Section: engine.Finish,
		SQL: sql})
}
