package standby

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/chain"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
)

// dumps are "id kind base closes", in the order of their moments.
func dumps(lines ...string) (list []*keep.Dump) {
	for i, l := range lines {
		f := append(strings.Fields(l), "", "")
		kind := map[string]manifest.Kind{"full": manifest.Full, "diff": manifest.Differential, "incr": manifest.Incremental}[f[1]]
		list = append(list, &keep.Dump{ID: f[0], Manifest: &manifest.Manifest{Job: "nightly", Database: "bookings", Kind: kind, Base: f[2], Closes: f[3],
			Moment: time.Unix(int64(i), 0)}})
	}
	return list
}

// TestWay: a standby goes from dump to dump, across fulls by what closes the chain before, and nowhere by guess.
func TestWay(t *testing.T) {
	t.Parallel()
	all := dumps("f1 full", "i1 incr f1", "i2 incr i1", "c1 incr i2 f2", "f2 full", "i3 incr f2", "c2 incr i3 f3", "f3 full", "i4 incr f3", "d1 diff f3",
		"i5 incr d1", "i6 incr i5", "c3 incr i6 d2", "d2 diff f3", "i7 incr d2", "f4 full")
	circle := dumps("a full", "b full", "x incr a b", "y incr b a")
	to, err := chain.Link(circle).To(circle[3])
	require.NoError(t, err)
	_, why, err := way(circle, chain.Link(circle), "gone", to)
	require.NoError(t, err)
	require.Equal(t, "its dumps close each other's chains in a circle", why)
	links := chain.Link(all)
	for _, c := range []struct{ from, to, want string }{
		{"f1", "i2", "i1>i1 i2>i2"}, {"i2", "i2", ""}, {"i1", "i3", "i2>i2 c1>f2 i3>i3"}, {"i2", "f2", "c1>f2"}, {"f2", "i4", "i3>i3 c2>f3 i4>i4"},
		{"i1", "i4", "i2>i2 c1>f2 i3>i3 c2>f3 i4>i4"}, {"f3", "i5", "d1>d1 i5>i5"}, {"i4", "i5", "no dump of the keep builds on what it is at"},
		{"i5", "f4", "no dump of the keep builds on what it is at"}, {"gone", "i2", "no dump of the keep builds on what it is at"},
		{"i5", "i7", "i6>i6 c3>d2 i7>i7"}, {"d1", "d2", "i5>i5 i6>i6 c3>d2"}, {"i3", "i7", "c2>f3 d1>d1 i5>i5 i6>i6 c3>d2 i7>i7"},
		{"i3", "i2", "no dump of the keep builds on what it is at"},
	} {
		to, err := links.To(links[c.to])
		require.NoError(t, err)
		steps, why, err := way(all, links, c.from, to)
		require.NoError(t, err)
		var said []string
		for _, s := range steps {
			said = append(said, s.plan.Last().ID+">"+s.then)
		}
		if why != "" {
			said = []string{why}
		}
		require.Equal(t, c.want, strings.Join(said, " "), "%s to %s", c.from, c.to)
	}
}

// TestNotes: what is noted is there again, also of work that failed; one that is damaged is said; two do not work at once.
func TestNotes(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	n := NotesIn(dir, "harbour")
	require.NoError(t, n.Do(func(x *Note) error { x.Paused, x.Dump = true, "abc"; return nil }))
	require.ErrorIs(t, n.Do(func(x *Note) error {
		require.True(t, x.Paused)
		x.Trouble = "the server is away"
		require.True(t, fault.HasCode(n.Do(func(*Note) error { return nil }), "standby-running"))
		return os.ErrDeadlineExceeded
	}), os.ErrDeadlineExceeded)
	x, err := n.Read()
	require.NoError(t, err)
	require.Equal(t, []string{"abc", "the server is away"}, []string{x.Dump, x.Trouble})
	require.NoError(t, os.WriteFile(filepath.Join(dir, "standby", "harbour.json"), []byte("{"), 0o600))
	_, err = n.Read()
	require.ErrorContains(t, err, "cannot be read")
}
