package drill_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	_ "grainkeep/internal/store/folder"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/blob"
	"grainkeep/internal/chain"
	"grainkeep/internal/drill"
	"grainkeep/internal/dump"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
)

var ctx = context.Background()

func takeDumps(t *testing.T, k *keep.Keep) (*dump.Result, []string, error) {
	t.Helper()
	var told []string
	feed := &event.Feed{}
	feed.Listen(func(e event.Event) {
		switch e := e.(type) {
		case dump.Planned:
			told = append(told, fmt.Sprint(len(e.Plan.Databases)))
		case dump.Finished:
			told = append(told, e.Manifest.Database)
		case event.Warning:
			told = append(told, e.Text())
		}
	})
	res, err := dump.Run(ctx, &dump.Job{Name: "nightly", Source: engine.Location{Engine: "fake"}, Keep: k,
		Compression: blob.Zstd,
		Zone:        time.UTC, Tool: "test"}, feed)
	return res, told, err
}

// newKeep makes a keep in a new folder.
func newKeep(t *testing.T) *keep.Keep {
	t.Helper()
	dir := t.TempDir()
	if memory, err := os.MkdirTemp("/dev/shm", "grainkeep-test-"); err == nil { // syncing costs nothing there
		t.Cleanup(func() { os.RemoveAll(memory) })
		dir = memory
	}
	k, err := keep.Create(ctx, filepath.Join(dir, "k"), false)
	require.NoError(t, err)
	return k
}

func TestADatabaseThatFailsDoesNotStopTheOthers(t *testing.T) {
	boom := errors.New("boom")
	for _, step := range []string{"snapshot a", "read a t", "confirm a"} {
		world = newWorld()
		world.fail[step] = boom
		k := newKeep(t)
		res, told, err := takeDumps(t, k)
		require.NoError(t, err)
		require.Equal(t, []string{"2", "b"}, told)
		require.Len(t, res.Failed, 1)
		require.Equal(t, "a", res.Failed[0].Database)
		require.ErrorIs(t, res.Failed[0].Err, boom)
		dumps, err := k.Dumps(ctx)
		require.NoError(t, err)
		require.Len(t, dumps, 1, "nothing of a is listed when it failed at %q", step)
		entries, err := os.ReadDir(k.Where())
		require.NoError(t, err)
		for _, e := range entries {
			require.NotEqual(t, ".work", e.Name())
		}
	}
	world = newWorld()
	world.fail["open"] = boom
	k := newKeep(t)
	_, _, err := takeDumps(t, k)
	require.ErrorIs(t, err, boom)
}

func TestManifestTellsTheTruth(t *testing.T) {
	world = newWorld()
	k := newKeep(t)
	res, _, err := takeDumps(t, k)
	require.NoError(t, err)
	dumps, err := k.Dumps(ctx)
	require.NoError(t, err)
	require.NoError(t, dumps[0].Whole(ctx))
	m := dumps[0].Manifest
	require.Equal(t, res.Done[0].ID, dumps[0].ID)
	require.Equal(t, []string{"a", "b"}, m.Run.Databases)
	require.Equal(t, map[string]int{"table": 1, "foreign key": 1, "index": 1, "view": 1}, m.Payload.SQL.Objects)
	require.Equal(t, "20260314T023000Z-full", filepath.Base(dumps[0].Path()))
	require.EqualValues(t, 4, m.Rows())
	var stored int64
	for _, f := range m.Files {
		st, err := os.Stat(filepath.Join(dumps[0].Path(), f.Path))
		require.NoError(t, err)
		require.Equal(t, f.Bytes, st.Size())
		require.EqualValues(t, 0o600, st.Mode().Perm())
		stored += f.Bytes
	}
	require.Equal(t, stored, m.StoredBytes)
	counts, err := os.ReadFile(filepath.Join(dumps[0].Path(), "row-counts.txt"))
	require.NoError(t, err)
	require.Equal(t, "empty|0\nt|3\nu|1\n", string(counts))
	need, err := dump.Estimate(ctx, k, "nightly", []engine.Database{{Name: "a"}, {Name: "never dumped", Bytes: 300}})
	require.NoError(t, err)
	require.Equal(t, m.StoredBytes+100, need)
}

// TestADrillSeesEveryDifference spoils a database on its way back, in every way
// that there is.
func TestADrillSeesEveryDifference(t *testing.T) {
	world = newWorld()
	k := newKeep(t)
	_, _, err := takeDumps(t, k)
	require.NoError(t, err)
	dumps, err := k.Dumps(ctx)
	require.NoError(t, err)
	checks := []drill.Check{{Database: "a*", SQL: "q", Answer: "<q>"}, {Database: "b", SQL: "not asked", Answer: ""}}
	rehearse := func() (*keep.Proof, []string, error) {
		var warned []string
		feed := &event.Feed{}
		feed.Listen(func(e event.Event) { warned = append(warned, e.Text()) })
		plan, err := chain.Link(dumps).To(dumps[0])
		require.NoError(t, err)
		p, err := drill.Run(ctx, drill.Drill{Plan: plan, On: engine.Location{Engine: "fake"}, Checks: checks,
			Tool: "test"}, feed)
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
		"the table t has 2 rows and had 3 rows":             func(d *fakeDB) { d.tables["t"] = d.tables["t"][:2] },
		"the table t has other values":                      func(d *fakeDB) { d.tables["t"][0] = "7" },
		"the table u did not come back":                     func(d *fakeDB) { delete(d.tables, "u") },
		"there is a table z that was not dumped":            func(d *fakeDB) { d.tables["z"] = nil },
		"the table empty has the columns w, v":              func(d *fakeDB) { d.columns = []string{"w", "v"} },
		`the database's encoding is "Y" and was "X"`:        func(d *fakeDB) { d.facts["encoding"] = "Y" },
		"the view w did not come back":                      func(d *fakeDB) { d.objects = d.objects[:len(d.objects)-1] },
		"the view w came back otherwise than it was dumped": func(d *fakeDB) { d.objects[len(d.objects)-1].SQL = "VIEW w2;\n" },
		"there is a rule r that was not dumped": func(d *fakeDB) {
			d.objects = append(d.objects, engine.Object{Kind: "rule", Name: "r"})
		},
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
