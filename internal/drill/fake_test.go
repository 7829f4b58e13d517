package drill_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"grainkeep/internal/engine"
)

// fake is an engine whose databases are in memory, to try the core's steps
// without any server. What fails, and where, is set by the test.
type fake struct {
	databases map[string]*fakeDB
	fail      map[string]error // by "step database"
	spoil     func(*fakeDB)    // what happens to a database on its way back
	discarded int
	finished  int
	extra     int64 // rows that a load tells beyond those that it takes

	product, version string
	clock            time.Time
	blind            func(row string) string // what reading makes of a row, each time
	once             map[string]bool         // errors of fail that happen once
	ordered          bool                    // rows begin with a key and a space, but for those of the table "u"
	moments          int                     // that were fixed
}

type fakeDB struct {
	facts   map[string]string
	tables  map[string][]string // rows by table
	columns []string
	objects []engine.Object
}

func (d *fakeDB) copy() *fakeDB {
	c := &fakeDB{facts: map[string]string{}, tables: map[string][]string{}, columns: slices.Clone(d.columns),
		objects: slices.Clone(d.objects)}
	for k, v := range d.facts {
		c.facts[k] = v
	}
	for k, v := range d.tables {
		c.tables[k] = slices.Clone(v)
	}
	return c
}

var (
	world *fake
	mu    sync.Mutex // sessions load side by side
)

func init() { engine.Register("fake", fakeDriver{}) }

type fakeDriver struct{}

func (fakeDriver) Open(context.Context, engine.Location) (engine.Source, error) {
	return world, world.fail["open"]
}
func (fakeDriver) Grants(engine.Location, engine.Purpose, []string) (string, error) {
	return "", nil
}
func (fakeDriver) ByHand(engine.HandDump) []string { return []string{"true"} }

func (f *fake) Describe(context.Context) (engine.Server, error) {
	return engine.Server{Product: f.product, Version: f.version, Clock: f.clock, Ordered: f.ordered}, nil
}
func (f *fake) Pin(context.Context, []string, string) error { return nil }

func (f *fake) Databases(context.Context) (list []engine.Database, err error) {
	for n := range f.databases {
		list = append(list, engine.Database{Name: n, Bytes: 300})
	}
	slices.SortFunc(list, func(a, b engine.Database) int { return strings.Compare(a.Name, b.Name) })
	return list, nil
}
func (f *fake) Snapshot(_ context.Context, name string) (engine.Snapshot, error) {
	f.moments++
	return &fakeSnap{f, name, f.databases[name], f.moments}, f.fail["snapshot "+name]
}
func (f *fake) Sweep(context.Context, string) (engine.Swept, error) {
	return engine.Swept{Removed: []string{"old_scratch"}, Foreign: []string{"not_ours"}}, nil
}
func (f *fake) Close() error                                    { return nil }
func (f *fake) Vacant(context.Context, engine.TargetSpec) error { return nil }
func (f *fake) Target(context.Context, engine.TargetSpec) (engine.Target, error) {
	return &fakeTarget{f: f, db: &fakeDB{facts: map[string]string{}, tables: map[string][]string{}}}, nil
}

type fakeSnap struct {
	f    *fake
	name string
	db   *fakeDB
	n    int
}

func (s *fakeSnap) Moment() time.Time {
	at := time.Date(2026, 3, 14, 2, 30, 0, 5, time.UTC)
	if s.f.ordered {
		at = at.Add(time.Duration(s.n) * time.Minute)
	}
	return at
}
func (s *fakeSnap) Width() int { return 3 }
func (s *fakeSnap) Confirm(context.Context) ([]string, error) {
	return nil, s.f.fail["confirm "+s.name]
}
func (s *fakeSnap) Close() error                                  { return nil }
func (s *fakeSnap) Reader(context.Context) (engine.Reader, error) { return s, nil }
func (s *fakeSnap) Ask(_ context.Context, sql string) (string, error) {
	return "<" + sql + ">", s.f.fail["ask"]
}
func (s *fakeSnap) Read(_ context.Context, t *engine.Table, _ engine.Part, to engine.Rows) error {
	for _, r := range s.db.tables[t.ID] {
		if s.f.blind != nil {
			r = s.f.blind(r)
		}
		if err := to.Row([]byte(r), false); err != nil {
			return err
		}
	}
	return s.f.fail["read "+s.name+" "+t.ID]
}

// ReadSpan implements engine.Ordered. Long rows come in pieces.
func (s *fakeSnap) ReadSpan(_ context.Context, t *engine.Table, span engine.Span, to engine.KeyedRows) error {
	rows := slices.Sorted(slices.Values(s.db.tables[t.ID]))
	for _, r := range rows {
		key, _, _ := strings.Cut(r, " ")
		if len(t.Key) > 0 && !within(key, span) {
			continue
		}
		if to.Key(nil); len(t.Key) > 0 {
			to.Key([]byte(key))
		}
		for len(r) > fakePiece {
			if err := to.Row([]byte(r[:fakePiece]), true); err != nil {
				return err
			}
			r = r[fakePiece:]
		}
		if err := to.Row([]byte(r), false); err != nil {
			return err
		}
	}
	return s.f.fail["read "+s.name+" "+t.ID]
}

const fakePiece = 100_000

func within(key string, s engine.Span) bool {
	return (s.After == "" || key > s.After) && (s.UpTo == "" || key <= s.UpTo)
}

// Witness looks at the database itself, past what Read makes of it.
func (s *fakeSnap) Witness(_ context.Context, t *engine.Table, sample int64) (engine.Witness, error) {
	digest := strings.Join(slices.Sorted(slices.Values(s.db.tables[t.ID])), ";")
	if len(digest) > 100 {
		sum := sha256.Sum256([]byte(digest))
		digest = hex.EncodeToString(sum[:])
	}
	w := engine.Witness{Sample: sample, Holds: "nothing", Digest: digest}
	for _, name := range s.db.columns {
		w.Columns = append(w.Columns, engine.WitnessColumn{Name: name, Says: "text"})
	}
	return w, s.f.fail["witness "+s.name+" "+t.ID]
}

func (s *fakeSnap) Catalog() *engine.Catalog {
	c := &engine.Catalog{Facts: s.db.facts, Header: "head\n", Objects: s.db.objects}
	for n := range s.db.tables {
		t := engine.Table{ID: n, Name: n, Columns: s.db.columns,
			Frame: engine.Framing{Head: n + "\n", RowEnd: "\n", GroupEnd: "\n", Always: true}}
		if s.f.ordered && n != "u" {
			t.Key = []string{"key"}
			t.Remove = func(s engine.Span) string { return strings.Join([]string{"DELETE FROM ", n, s.After, s.UpTo}, "|") }
		}
		c.Tables = append(c.Tables, t)
	}
	slices.SortFunc(c.Tables, func(a, b engine.Table) int { return strings.Compare(a.ID, b.ID) })
	return c
}

type fakeTarget struct {
	f  *fake
	db *fakeDB
}

func (t *fakeTarget) Width() (int, int)  { return 2, 2 }
func (t *fakeTarget) Settings() []string { return nil }
func (t *fakeTarget) Missing(context.Context, []string) ([]string, error) {
	return nil, nil
}
func (t *fakeTarget) Session(context.Context) (engine.Session, error) { return &fakeSession{t}, nil }
func (t *fakeTarget) Finish(context.Context) (string, error) {
	t.f.finished++
	return "", t.f.fail["finish"]
}
func (t *fakeTarget) Discard(context.Context) error {
	t.f.discarded++
	return t.f.fail["discard"]
}
func (t *fakeTarget) Snapshot(context.Context) (engine.Snapshot, error) {
	original := t.f.databases["a"]
	t.db.facts, t.db.columns = original.copy().facts, slices.Clone(original.columns)
	if t.f.spoil != nil {
		t.f.spoil(t.db)
	}
	return &fakeSnap{t.f, "scratch", t.db, 0}, nil
}

type fakeSession struct{ t *fakeTarget }

func (s *fakeSession) Close() error { return nil }
func (s *fakeSession) Exec(_ context.Context, sql string) error {
	mu.Lock()
	defer mu.Unlock()
	for _, o := range s.t.f.databases["a"].objects {
		if o.SQL == sql {
			if err := s.t.f.fail["exec "+o.ID()]; err != nil {
				if s.t.f.once[o.ID()] {
					delete(s.t.f.fail, "exec "+o.ID())
				}
				return err
			}
			s.t.db.objects = append(s.t.db.objects, o)
		}
		if o.Unchecked == sql && sql != "" {
			o.SQL = o.Unchecked
			s.t.db.objects = append(s.t.db.objects, o)
		}
	}
	return nil
}
func (s *fakeSession) Load(_ context.Context, text io.Reader, _ func(int64)) (int64, error) {
	data, err := io.ReadAll(text)
	if err != nil {
		return 0, err
	}
	if err := s.t.f.fail["load"]; err != nil {
		return 0, err
	}
	lines := strings.Split(strings.TrimSuffix(string(data), "\n"), "\n")
	mu.Lock()
	defer mu.Unlock()
	lines = lines[1:] // the first says what the file holds
	s.t.db.tables[lines[1]] = append(s.t.db.tables[lines[1]], lines[2:]...)
	return int64(len(lines)-2) + s.t.f.extra, err
}

func newWorld() *fake {
	return &fake{product: "Fake", version: "1.2.3", once: map[string]bool{}, fail: map[string]error{},
		databases: map[string]*fakeDB{
			"a": {facts: map[string]string{"encoding": "X"}, columns: []string{"v", "w"},
				tables: map[string][]string{"t": {"1", "2", "2"}, "empty": {}, "u": {"x"}},
				objects: []engine.Object{
					{Kind: "table", Name: "t", Table: "t", Section: engine.Schema, SQL: "TABLE t;\n"},
					{Kind: "foreign key", Name: "k", Table: "t", Section: engine.Finish, SQL: "KEY k;\n",
						Unchecked: "KEY k NOT VALID;\n", Rule: true},
					{Kind: "index", Name: "i", Table: "t", Section: engine.Finish, SQL: "INDEX i ((x)::text);\n",
						Rule: true},
					{Kind: "view", Name: "w", Section: engine.Finish, SQL: "VIEW w;\n"},
				}},
			"b": {facts: map[string]string{}, tables: map[string][]string{"t": {"9"}}},
		}}
}

// Remove implements engine.Session.
func (s *fakeSession) Remove(_ context.Context, text io.Reader) (int64, error) {
	mu.Lock()
	defer mu.Unlock()
	return engine.Removals(text, func(sql []byte) (int64, error) {
		said := strings.Split(string(sql[strings.Index(string(sql), "DELETE FROM "):]), "|")
		table, before := said[1], len(s.t.db.tables[said[1]])
		s.t.db.tables[table] = slices.DeleteFunc(s.t.db.tables[table], func(r string) bool {
			key, _, _ := strings.Cut(r, " ")
			return within(key, engine.Span{After: said[2], UpTo: said[3]})
		})
		return int64(before - len(s.t.db.tables[table])), nil
	}, nil)
}
