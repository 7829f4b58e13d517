package test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// subject is a database of an engine to which everything happens while chains of it are taken.
type subject struct {
	from, to string                     // where it is, and where it is restored to
	changes  []string                   // statements that change it; %d are random numbers
	change   func(sql string) error     // runs one
	named    func(n string) string      // makes a database's name
	reads    func(name string) []string // all of a database, by the test's own reading; empty: the source's own
	byHand   func(path, name string)    // restores by the lines of the README
	half     bool                       // only every other moment is restored, unless a seed is given by hand
	sealed   bool                       // by who has no key that opens the dumps
}

// chainsOf takes chains of dumps of a database between random changes, and restores each of their moments: by the
// program, and by the lines of the README.
func chainsOf(t *testing.T, dir string, r *rand.Rand, s subject) {
	type moment struct {
		path string
		want []string
	}
	var moments []moment
	kinds := map[string]int{}
	seal := []string{}
	if s.sealed {
		seal = sealedFor(t, dir)
	}
	for step := range 10 {
		kind := []string{"incremental", "incremental", "differential"}[r.IntN(3)]
		args := []string{"dump", "--from", s.from, "--to", "keep", "--kind", kind}
		if step == 6 {
			args = append(args[:len(args)-1], "full", "--new-baseline")
		}
		out := run(t, dir, -1, append(args, seal...)...)
		if step > 0 {
			require.NotContains(t, out.stderr, "a full dump is taken")
		}
		path := lines(out.stdout)[0]
		kinds[strings.SplitAfter(path, "Z-")[1]]++
		moments = append(moments, moment{path, s.reads("")})
		for range 1 + r.IntN(3) {
			s.randomly(t, r)
		}
	}
	require.GreaterOrEqual(t, len(kinds), 2, kinds)
	reading := func(args ...string) []string { return args }
	if s.sealed {
		reading = func(args ...string) []string { return append(args, "--key", "safe.key") }
	}
	again := os.Getenv(testserver.Variable)+os.Getenv(testserver.MariaVariable) != "" // on another version
	half := (s.half || again) && os.Getenv("GRAINKEEP_SEED") == ""
	for i, m := range moments {
		if half && i%2 == 0 {
			continue
		}
		name := s.named(fmt.Sprintf("back%d", i))
		run(t, dir, -1, reading("restore", m.path, "--to", s.to, "--as", name)...)
		sameLines(t, m.want, s.reads(name))
		if i%5 == 4 {
			hand := s.named(fmt.Sprintf("hand%d", i))
			if s.sealed {
				m.path = unsealedByHand(t, m.path, filepath.Join(dir, "office.key"))
			}
			s.byHand(m.path, hand)
			sameLines(t, m.want, s.reads(hand))
		}
	}
	run(t, dir, -1, reading("drill", moments[5].path, "--to", s.to)...)
	run(t, dir, -1, reading("drill", moments[9].path, "--to", s.to)...)
	run(t, dir, 0, "verify", "--from", "keep")
}

// randomly runs a statement, once it finds one that the database takes.
func (s subject) randomly(t *testing.T, r *rand.Rand) {
	for range 50 {
		sql := s.changes[r.IntN(len(s.changes))]
		sql = strings.NewReplacer("%[1]d", strconv.Itoa(r.IntN(12000)), "%[2]d", strconv.Itoa(r.IntN(900)), "%%", "%").
			Replace(sql)
		if s.change(sql) == nil {
			return
		}
	}
	t.Fatal("no statement runs")
}
