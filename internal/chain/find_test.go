package chain

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
)

func dumpOf(id, database, run string, moment time.Time, databases ...string) *keep.Dump {
	return &keep.Dump{ID: id + "0000000000", Manifest: &manifest.Manifest{Job: "nightly", Database: database,
		Moment: moment,
		Zone:   "Atlantic/Faroe", Run: manifest.Run{ID: run, Databases: databases}}}
}

func TestFind(t *testing.T) {
	day := func(d, h int) time.Time { return time.Date(2026, 3, d, h, 30, 0, 0, time.UTC) }
	dumps := []*keep.Dump{
		dumpOf("aaaa1", "a/b", "r1", day(10, 2), "a/b", "c"), dumpOf("cccc1", "c", "r1", day(10, 2), "a/b", "c"),
		dumpOf("aaaa2", "a/b", "r2", day(12, 2), "a/b", "c"), dumpOf("cccc2", "c", "r2", day(12, 3), "a/b", "c"),
		dumpOf("aaaa3", "a/b", "r3", day(13, 2), "a/b", "c"), // the run that c failed in
	}
	now := day(13, 12)
	for _, c := range []struct {
		name, at string
		want     []string
	}{
		{"nightly/a/b", "", []string{"aaaa3"}},
		{"nightly", "", []string{"aaaa2", "cccc2"}}, // the newest complete run
		{"nightly", "2026-03-10", []string{"aaaa1", "cccc1"}},
		{"nightly/a/b", "2026-03-12T02:30", []string{"aaaa2"}},
		{"nightly/c", "10 hours", nil}, // asked for the 13th: none that day
		{"nightly/a/b", "10 h", []string{"aaaa3"}},
		{"cccc1", "", []string{"cccc1"}},
	} {
		got, err := Find(dumps, c.name, c.at, now)
		var ids []string
		for _, d := range got {
			ids = append(ids, d.ID[:5])
		}
		require.Equal(t, c.want, ids, "%s at %s: %v", c.name, c.at, err)
		require.Equal(t, c.want == nil, err != nil)
	}
	for _, c := range []struct{ name, at, code, say string }{
		{"nightly/c", "2026-03-11", "moment-absent",
			"the next one before is of 2026-03-10 02:30:00 UTC: --at 2026-03-10T02:30:00Z; " +
				"the next one after is of 2026-03-12 03:30:00 UTC: --at 2026-03-12T03:30:00Z"},
		{"nightly/c", "2026-03-01", "moment-absent", "the next one after is of 2026-03-10"},
		{"nightly/c", "noon", "moment-unclear", ""},
		{"nightly/x", "", "dump-absent", "there are: nightly/a/b, nightly/c"},
		{"weekly", "", "dump-absent", "there are: nightly/a/b, nightly/c"},
		{"aaaa", "", "name-ambiguous", "write more of it"},
		{"cccc1", "2026-03-10", "moment-needless", ""},
	} {
		_, err := Find(dumps, c.name, c.at, now)
		require.True(t, fault.HasCode(err, c.code), "%s: %v", c.name, err)
		require.Equal(t, fault.Usage, fault.Of(err).Class)
		require.Contains(t, fault.Of(err).Do, c.say)
	}
	_, err := Find(dumps[4:], "nightly", "", now)
	require.True(t, fault.HasCode(err, "run-incomplete"))
}
