package drill_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/blob"
	"grainkeep/internal/chain"
	"grainkeep/internal/drill"
	"grainkeep/internal/dump"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
)

// changeWorld changes the tables of the database in some way.
func changeWorld(r *rand.Rand) {
	tables := world.databases["a"].tables
	row := func(k, length int) string { return fmt.Sprintf("%06d %s%d", k, strings.Repeat("x", length), r.Int()) }
	switch r.IntN(6) {
	case 0:
	case 1:
		tables["u"] = append(tables["u"], row(1, 5))
	case 2: // a long value is another
		at := r.IntN(len(tables["long"]))
		tables["long"][at] = row(at*10, 1_300_000)
	case 3:
		from := r.IntN(40)
		tables["long"] = slices.DeleteFunc(tables["long"], func(s string) bool { return s[4:6] == "50" && from%2 == 0 })
	default:
		rows := tables["t"]
		from := r.IntN(len(rows))
		rows = slices.Delete(rows, from, min(len(rows), from+r.IntN(400)))
		for range r.IntN(300) {
			k := r.IntN(100_000)
			rows = slices.DeleteFunc(rows, func(s string) bool { return strings.HasPrefix(s, fmt.Sprintf("%06d ", k)) })
			rows = append(rows, row(k, r.IntN(150)))
		}
		tables["t"] = rows
	}
}

// TestChainsOfTheCore takes a chain of dumps by comparison, of tables with short rows, with rows that are longer than
// what is held, and without a key, and drills each of its dumps against what was there.
func TestChainsOfTheCore(t *testing.T) {
	for seed := range uint64(2) {
		r := rand.New(rand.NewPCG(seed, 5))
		world = newWorld()
		world.ordered, world.version = true, "1.2.3"
		tables := world.databases["a"].tables
		tables["t"] = nil
		for k := range 3000 {
			tables["t"] = append(tables["t"], fmt.Sprintf("%06d %s", k*30, strings.Repeat("y", r.IntN(150))))
		}
		for k := range 20 {
			tables["long"] = append(tables["long"], fmt.Sprintf("%06d %s", k*10, strings.Repeat("z", 1_200_000)))
		}
		k := newKeep(t)
		var want []*fakeDB
		ways := map[manifest.Change]int{}
		for step := range 8 {
			m := taken(t, k, []manifest.Kind{manifest.Incremental, manifest.Differential}[r.IntN(4)/3])
			require.Equal(t, step == 0, m.Kind == manifest.Full, m.Why)
			for _, x := range m.Tables() {
				ways[x.Change]++
			}
			want = append(want, world.databases["a"].copy())
			changeWorld(r)
		}
		require.Len(t, ways, 3, "tables were whole, unchanged and changed in ranges")
		dumps, err := k.Dumps(ctx)
		require.NoError(t, err)
		for i, d := range dumps {
			drilled(t, dumps, d, want[i])
		}
		// A row that the chain does not know stops it.
		last := want[len(want)-1]
		world.extra = 1
		plan, err := chain.Link(dumps).To(dumps[len(dumps)-1])
		require.NoError(t, err)
		p, err := drill.Run(ctx, drill.Drill{Plan: plan, On: engine.Location{Engine: "fake"}, Tool: "test"}, &event.Feed{})
		require.NoError(t, err)
		require.False(t, p.Proven)
		world.extra = 0
		drilled(t, dumps, dumps[len(dumps)-1], last)
	}
}

// taken takes a dump of the database "a"; nil: it failed.
func taken(t *testing.T, k *keep.Keep, kind manifest.Kind) *manifest.Manifest {
	res, err := dump.Run(ctx, &dump.Job{Name: "nightly", Source: engine.Location{Engine: "fake"}, Keep: k,
		Compression: blob.Zstd, Choice: dump.Choice{Databases: []string{"a"}}, Zone: time.UTC, Tool: "test", Kind: kind},
		&event.Feed{})
	require.NoError(t, err)
	if len(res.Failed) > 0 {
		return nil
	}
	return res.Done[0].Manifest
}

// drilled drills a dump of a chain, and compares what came back with what was there.
func drilled(t *testing.T, dumps []*keep.Dump, d *keep.Dump, want *fakeDB) {
	plan, err := chain.Link(dumps).To(d)
	require.NoError(t, err)
	var got *fakeDB
	world.spoil = func(db *fakeDB) { got = db.copy() }
	p, err := drill.Run(ctx, drill.Drill{Plan: plan, On: engine.Location{Engine: "fake"}, Tool: "test"}, &event.Feed{})
	require.NoError(t, err)
	require.True(t, p.Proven, "%.300v", p.Differences)
	for name, rows := range want.tables {
		require.True(t, slices.Equal(slices.Sorted(slices.Values(rows)), slices.Sorted(slices.Values(got.tables[name]))),
			"the table %s of %s", name, d.Short())
	}
	world.spoil = nil
}

// TestWhatAnIncrementStandsOn: on another server it is a full, and one that is cut is none.
func TestWhatAnIncrementStandsOn(t *testing.T) {
	world = newWorld()
	world.ordered = true
	for k := range 3000 {
		world.databases["a"].tables["t"] = append(world.databases["a"].tables["t"], fmt.Sprintf("%06d %040d", k, k))
	}
	k := newKeep(t)
	take := func() *manifest.Manifest { return taken(t, k, manifest.Incremental) }
	require.Equal(t, manifest.Full, take().Kind)
	require.Equal(t, manifest.Incremental, take().Kind)
	world.version = "2.0"
	m := take()
	require.Equal(t, manifest.Full, m.Kind)
	require.Contains(t, m.Why, "the server was another one: Fake 1.2.3")
	world.moments = 0
	m = taken(t, k, manifest.Incremental)
	require.Equal(t, manifest.Full, m.Kind)
	require.Contains(t, m.Why, "the clock went back: the last dump is of 2026-03-14 02:33:00 UTC")
	world.moments = 9
	world.databases["a"].tables["t"] = world.databases["a"].tables["t"][1:]
	world.fail["read a t"] = fault.New(engine.Trouble, nil, "the line is cut")
	require.Nil(t, taken(t, k, manifest.Incremental), "an increment that is cut is none")
	delete(world.fail, "read a t")
	require.Equal(t, manifest.Incremental, take().Kind)
}
