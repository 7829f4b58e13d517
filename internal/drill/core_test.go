package drill_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/blob"
	"grainkeep/internal/drill"
	"grainkeep/internal/dump"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
)

// fake is an engine whose databases are in memory, to try the core's steps
// without any server. What fails, and where, is set by the test.
type fake struct {
	databases map[string]*fakeDB
	fail      map[string]error // by "step database"
	spoil     func(*fakeDB)    // what happens to a database on its way back
	discarded int
}

type fakeDB struct {
	facts   map[string]string
	tables  map[string][]string // rows by table
	columns []string
	objects []engine.Object
}

func (d *fakeDB) copy() *fakeDB {
	c := &fakeDB{facts: map[string]string{}, tables: map[string][]string{}, columns: slices.Clone(d.columns), objects: slices.Clone(d.objects)}
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
	return engine.Server{Product: "Fake", Version: "1"}, nil
}
func (f *fake) Fix(context.Context, []string, string) error { return nil }

func (f *fake) Databases(context.Context) (list []engine.Database, err error) {
	for n := range f.databases {
		list = append(list, engine.Database{Name: n, Bytes: 300})
	}
	slices.SortFunc(list, func(a, b engine.Database) int { return strings.Compare(a.Name, b.Name) })
	return list, nil
}
func (f *fake) Snapshot(_ context.Context, name string) (engine.Snapshot, error) {
	return &fakeSnap{f, name, f.databases[name]}, f.fail["snapshot "+name]
}
func (f *fake) Sweep(context.Context, string) (engine.Swept, error) {
	return engine.Swept{Removed: []string{"old_scratch"}, Foreign: []string{"not_ours"}}, nil
}
func (f *fake) Close() error { return nil }
func (f *fake) Target(context.Context, engine.TargetSpec) (engine.Target, error) {
	return &fakeTarget{f: f, db: &fakeDB{facts: map[string]string{}, tables: map[string][]string{}}}, nil
}

type fakeSnap struct {
	f    *fake
	name string
	db   *fakeDB
}

func (s *fakeSnap) Moment() time.Time                             { return time.Date(2026, 3, 14, 2, 30, 0, 5, time.UTC) }
func (s *fakeSnap) Width() int                                    { return 3 }
func (s *fakeSnap) Confirm(context.Context) error                 { return s.f.fail["confirm "+s.name] }
func (s *fakeSnap) Close() error                                  { return nil }
func (s *fakeSnap) Reader(context.Context) (engine.Reader, error) { return s, nil }
func (s *fakeSnap) Ask(_ context.Context, sql string) (string, error) {
	return "<" + sql + ">", s.f.fail["ask"]
}
func (s *fakeSnap) Read(_ context.Context, t *engine.Table, _ engine.Part, to engine.Rows) error {
	for _, r := range s.db.tables[t.ID] {
		if err := to.Row([]byte(r), false); err != nil {
			return err
		}
	}
	return s.f.fail["read "+s.name+" "+t.ID]
}
func (s *fakeSnap) Catalog() *engine.Catalog {
	c := &engine.Catalog{Facts: s.db.facts, Header: "head\n", Objects: s.db.objects}
	for n := range s.db.tables {
		c.Tables = append(c.Tables, engine.Table{ID: n, Name: n, Columns: s.db.columns, Frame: engine.Framing{Head: n + "\n", RowEnd: "\n", GroupEnd: "\n", Always: true}})
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
func (t *fakeTarget) Finish(context.Context) (string, error)          { return "", nil }
func (t *fakeTarget) Discard(context.Context) error                   { t.f.discarded++; return nil }
func (t *fakeTarget) Snapshot(context.Context) (engine.Snapshot, error) {
	original := t.f.databases["a"]
	t.db.facts, t.db.columns = original.copy().facts, slices.Clone(original.columns)
	if t.f.spoil != nil {
		t.f.spoil(t.db)
	}
	return &fakeSnap{t.f, "scratch", t.db}, nil
}

type fakeSession struct{ t *fakeTarget }

func (s *fakeSession) Close() error { return nil }
func (s *fakeSession) Exec(_ context.Context, sql string) error {
	for _, o := range s.t.f.databases["a"].objects {
		if o.SQL == sql {
			if err := s.t.f.fail["exec "+o.ID()]; err != nil {
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
	lines := strings.Split(strings.TrimSuffix(string(data), "\n"), "\n")
	mu.Lock()
	defer mu.Unlock()
	s.t.db.tables[lines[1]] = lines[2:]
	return int64(len(lines) - 2), err
}

func newWorld() *fake {
	return &fake{fail: map[string]error{}, databases: map[string]*fakeDB{
		"a": {facts: map[string]string{"encoding": "X"}, columns: []string{"v", "w"}, tables: map[string][]string{"t": {"1", "2", "2"}, "empty": {}, "u": {"x"}},
			objects: []engine.Object{
				{Kind: "table", Name: "t", Table: "t", Section: engine.Schema, SQL: "TABLE t;\n"},
				{Kind: "foreign key", Name: "k", Table: "t", Section: engine.Finish, SQL: "KEY k;\n", Unchecked: "KEY k NOT VALID;\n", Rule: true},
				{Kind: "index", Name: "i", Table: "t", Section: engine.Finish, SQL: "INDEX i ((x)::text);\n", Rule: true},
				{Kind: "view", Name: "w", Section: engine.Finish, SQL: "VIEW w;\n"},
			}},
		"b": {facts: map[string]string{}, tables: map[string][]string{"t": {"9"}}},
	}}
}

func takeDumps(t *testing.T, k *keep.Keep) (*dump.Result, []string, error) {
	t.Helper()
	var told []string
	res, err := dump.Run(context.Background(), &dump.Job{Name: "nightly", Source: engine.Location{Engine: "fake"}, Keep: k, Compression: blob.Zstd, Zone: time.UTC, Tool: "test"},
		dump.Watcher{Planned: func(p *dump.Plan, _ *keep.Keep, _ keep.Room) { told = append(told, fmt.Sprint(len(p.Databases))) },
			Done: func(d dump.Done) { told = append(told, d.Manifest.Database) }, Warn: func(s string) { told = append(told, s) }, Note: func(string) {}, Meter: &event.Meter{}})
	return res, told, err
}

func TestADatabaseThatFailsDoesNotStopTheOthers(t *testing.T) {
	boom := errors.New("boom")
	for _, step := range []string{"snapshot a", "read a t", "confirm a"} {
		world = newWorld()
		world.fail[step] = boom
		k, err := keep.Create(filepath.Join(t.TempDir(), "k"), false)
		require.NoError(t, err)
		res, told, err := takeDumps(t, k)
		require.NoError(t, err)
		require.Equal(t, []string{"2", "b"}, told)
		require.Len(t, res.Failed, 1)
		require.Equal(t, "a", res.Failed[0].Database)
		require.ErrorIs(t, res.Failed[0].Err, boom)
		dumps, err := k.Dumps()
		require.NoError(t, err)
		require.Len(t, dumps, 1, "nothing of a is listed when it failed at %q", step)
		entries, err := os.ReadDir(k.Folder)
		require.NoError(t, err)
		for _, e := range entries {
			require.NotEqual(t, ".work", e.Name())
		}
	}
	world = newWorld()
	world.fail["open"] = boom
	k, err := keep.Create(filepath.Join(t.TempDir(), "k"), false)
	require.NoError(t, err)
	_, _, err = takeDumps(t, k)
	require.ErrorIs(t, err, boom)
}

func TestManifestTellsTheTruth(t *testing.T) {
	world = newWorld()
	k, err := keep.Create(filepath.Join(t.TempDir(), "k"), false)
	require.NoError(t, err)
	res, _, err := takeDumps(t, k)
	require.NoError(t, err)
	dumps, err := k.Dumps()
	require.NoError(t, err)
	m := dumps[0].Manifest
	require.Equal(t, res.Done[0].ID, dumps[0].ID)
	require.Equal(t, []string{"a", "b"}, m.Run.Databases)
	require.Equal(t, map[string]int{"table": 1, "foreign key": 1, "index": 1, "view": 1}, m.Objects)
	require.Equal(t, "20260314T023000Z-full", filepath.Base(dumps[0].Path))
	require.EqualValues(t, 4, m.Rows())
	var stored int64
	for _, f := range m.Files {
		st, err := os.Stat(filepath.Join(dumps[0].Path, f.Path))
		require.NoError(t, err)
		require.Equal(t, f.Bytes, st.Size())
		require.EqualValues(t, 0o600, st.Mode().Perm())
		stored += f.Bytes
	}
	require.Equal(t, stored, m.StoredBytes)
	counts, err := os.ReadFile(filepath.Join(dumps[0].Path, "row-counts.txt"))
	require.NoError(t, err)
	require.Equal(t, "empty|0\nt|3\nu|1\n", string(counts))
	need, err := dump.Estimate(k, "nightly", []engine.Database{{Name: "a"}, {Name: "never dumped", Bytes: 300}})
	require.NoError(t, err)
	require.Equal(t, m.StoredBytes+100, need)
}

// TestADrillSeesEveryDifference spoils a database on its way back, in every way
// that there is.
func TestADrillSeesEveryDifference(t *testing.T) {
	world = newWorld()
	k, err := keep.Create(filepath.Join(t.TempDir(), "k"), false)
	require.NoError(t, err)
	_, _, err = takeDumps(t, k)
	require.NoError(t, err)
	dumps, err := k.Dumps()
	require.NoError(t, err)
	checks := []drill.Check{{Database: "a*", SQL: "q", Answer: "<q>"}, {Database: "b", SQL: "not asked", Answer: ""}}
	rehearse := func() (*keep.Proof, []string, error) {
		var warned []string
		p, err := drill.Run(context.Background(), dumps[0], engine.Location{Engine: "fake"}, k, checks, "test",
			drill.Watcher{Warn: func(s string) { warned = append(warned, s) }, Meter: &event.Meter{}})
		return p, warned, err
	}
	p, warned, err := rehearse()
	require.NoError(t, err)
	require.True(t, p.Proven, "%v", p.Differences)
	require.Len(t, p.Checks, 1)
	require.EqualValues(t, 4, p.Rows)
	require.Equal(t, 3, p.Tables)
	require.Equal(t, 4, p.Objects)
	require.Len(t, warned, 2)
	require.Contains(t, warned[0], "removed the scratch database old_scratch")
	require.Contains(t, warned[1], "not_ours looks like")
	require.Equal(t, 1, world.discarded)

	for say, spoil := range map[string]func(*fakeDB){
		"the table t has 2 rows and had 3 rows":      func(d *fakeDB) { d.tables["t"] = d.tables["t"][:2] },
		"the table t has other values":               func(d *fakeDB) { d.tables["t"][0] = "7" },
		"the table u did not come back":              func(d *fakeDB) { delete(d.tables, "u") },
		"there is a table z that was not dumped":     func(d *fakeDB) { d.tables["z"] = nil },
		"the table empty has the columns [w v]":      func(d *fakeDB) { d.columns = []string{"w", "v"} },
		`the database's encoding is "Y" and was "X"`: func(d *fakeDB) { d.facts["encoding"] = "Y" },
		"the view w did not come back":               func(d *fakeDB) { d.objects = d.objects[:len(d.objects)-1] },
		"the view w came back as: VIEW w2":           func(d *fakeDB) { d.objects[len(d.objects)-1].SQL = "VIEW w2;\n" },
		"there is a rule r that was not dumped":      func(d *fakeDB) { d.objects = append(d.objects, engine.Object{Kind: "rule", Name: "r"}) },
		"": func(d *fakeDB) {
			for i := range d.objects {
				d.objects[i].SQL = strings.Replace(d.objects[i].SQL, "((x)::text)", "(x)", 1)
			}
		},
	} {
		world.spoil = spoil
		p, _, err := rehearse()
		require.NoError(t, err)
		if say == "" {
			require.True(t, p.Proven, "a cast that the server dropped: %v", p.Differences)
			continue
		}
		require.False(t, p.Proven, say)
		require.Contains(t, strings.Join(p.Differences, "\n"), say)
	}
	world.spoil = nil

	world.fail["exec foreign key k"] = errors.New("orphans")
	world.fail["exec index i"] = errors.New("duplicates")
	p, _, err = rehearse()
	require.NoError(t, err)
	require.True(t, p.Proven, "rows that break rules are still the rows: %v", p.Differences)
	require.Len(t, p.Warnings, 2)
	world.fail["exec view w"] = errors.New("no such function")
	p, _, err = rehearse()
	require.NoError(t, err)
	require.Contains(t, strings.Join(p.Differences, "\n"), "the view w could not be restored: no such function")
	delete(world.fail, "exec view w")
	world.fail["ask"] = errors.New("syntax")
	p, _, err = rehearse()
	require.NoError(t, err)
	require.Contains(t, p.Differences[0], `answers "error: syntax" instead of "<q>"`)
	delete(world.fail, "ask")

	world.fail["read scratch t"] = fault.New("connection-lost", nil, "lost")
	_, _, err = rehearse()
	require.True(t, fault.HasCode(err, "connection-lost"), "that is not a proof of anything")
	require.Equal(t, 15, world.discarded, "every scratch database was removed")
}
