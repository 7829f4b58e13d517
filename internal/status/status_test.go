package status

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/dump"
	"grainkeep/internal/journal"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
)

func TestHowADatabaseStands(t *testing.T) {
	now := time.Date(2026, 3, 14, 12, 0, 0, 0, time.UTC)
	nightly, err := phrase.ParseSchedule("02:30")
	require.NoError(t, err)
	weekly, err := phrase.ParseSchedule("11:00 on sunday")
	require.NoError(t, err)
	j := Job{Name: "nightly", Databases: []string{"a"}, Dumps: []Due{{manifest.Full, []*phrase.Schedule{nightly}}},
		Drill: []*phrase.Schedule{weekly},
		Grace: time.Hour, Zone: time.UTC}
	of := func(database string, ago time.Duration, more ...func(*keep.Dump)) *keep.Dump {
		at := now.Add(-ago)
		d := &keep.Dump{ID: database + at.String(), Manifest: &manifest.Manifest{Job: "nightly", Database: database,
			Kind:   manifest.Full,
			Moment: at, Started: at, Finished: at, Run: manifest.Run{ID: at.String(), Databases: []string{"a", "b"}}}}
		for _, m := range more {
			m(d)
		}
		return d
	}
	proof := func(ago time.Duration, good bool) func(*keep.Dump) {
		return func(d *keep.Dump) { d.Proofs = append(d.Proofs, keep.Proof{At: now.Add(-ago), Proven: good}) }
	}
	const night = 9*time.Hour + 30*time.Minute
	day := 24 * time.Hour
	for name, c := range map[string]struct {
		dumps []*keep.Dump
		state State
		why   string
	}{
		"good":               {[]*keep.Dump{of("a", night, proof(2*time.Hour, true))}, Good, ""},
		"good, no drill yet": {[]*keep.Dump{of("a", night)}, Good, ""},
		"none":               {nil, None, "there is no dump of it yet"},
		"late": {[]*keep.Dump{of("a", night+day, proof(2*time.Hour, true))}, Late,
			"it was due 9 hours ago"},
		"missed": {[]*keep.Dump{of("a", night+3*day, proof(2*time.Hour, true))}, Missed,
			"3 dumps were due since the last, the first 2 days ago"},
		"failed": {[]*keep.Dump{of("a", night, proof(2*time.Hour, false))}, Failed, "its newest dump failed its drill"},
		"unproven": {[]*keep.Dump{of("a", night+9*day, proof(9*day, true)), of("a", night)}, Unproven,
			"a drill was due 6 days ago"},
		"shrunk": {[]*keep.Dump{of("a", night, func(d *keep.Dump) {
			d.Manifest.Warnings = []manifest.Warning{{Code: dump.Shrunk, Text: "the table t is gone"}}
		})}, Shrunk, "the table t is gone"},
	} {
		lines := Of(j, c.dumps, now)
		require.Equal(t, "a", lines[0].Database, name)
		require.Equal(t, c.state, lines[0].State, "%s: %s", name, lines[0].Why)
		require.Equal(t, c.why, lines[0].Why, name)
		require.Equal(t, c.state != Good && c.state != Shrunk, lines[0].State.Stale())
		require.Equal(t, "2026-03-15T02:30:00Z", lines[0].Next.Format(time.RFC3339))
	}
	// A run of one database does not make the others disappear; a run of all without one does.
	one := of("a", time.Hour, func(d *keep.Dump) {
		d.Manifest.Run.Narrowed, d.Manifest.Run.Databases = true,
			[]string{"a"}
	})
	lines := Of(j, []*keep.Dump{of("a", night), of("b", night), one}, now)
	require.Len(t, lines, 2)
	require.Equal(t, one, lines[0].Last)
	without := of("a", time.Hour, func(d *keep.Dump) { d.Manifest.Run.Databases = []string{"a"} })
	require.Len(t, Of(j, []*keep.Dump{of("a", night), of("b", night), without}, now), 1)
	require.True(t, Missed.Worse(Late))

	// Each kind is late for itself; a larger one stands for the smaller.
	often, err := phrase.ParseSchedule("each 2 hours")
	require.NoError(t, err)
	j.Dumps = append(j.Dumps, Due{manifest.Incremental, []*phrase.Schedule{often}})
	change := func(ago time.Duration) *keep.Dump {
		return of("a", ago, func(d *keep.Dump) { d.Manifest.Kind = manifest.Incremental })
	}
	for why, dumps := range map[string][]*keep.Dump{
		"": {of("a", night), change(90 * time.Minute)},
		"4 incremental dumps were due since the last, the first 8 hours ago": {of("a", night)},
		"its full dump was due 9 hours ago":                                  {of("a", night+day), change(90 * time.Minute)},
		"its incremental dump was due 2 hours ago":                           {change(9 * time.Hour), of("a", 3*time.Hour)},
	} {
		l := Of(j, dumps, now)[0]
		require.Equal(t, why, l.Why)
		require.Equal(t, "2026-03-14T14:00:00Z", l.Next.Format(time.RFC3339))
		require.Equal(t, dumps[len(dumps)-1], l.Last)
	}
}

// TestWhatTheJournalAndTheKeepAdd: a failed run, dumps that nobody has read for long, a keep that is nearly full.
func TestWhatTheJournalAndTheKeepAdd(t *testing.T) {
	now := time.Date(2026, 3, 14, 12, 0, 0, 0, time.UTC)
	at := now.Add(-40 * 24 * time.Hour)
	d := &keep.Dump{ID: "d1", Manifest: &manifest.Manifest{Job: "nightly", Database: "a", Kind: manifest.Full, Moment: at, Started: at,
		Finished: at, StoredBytes: 1000, Run: manifest.Run{ID: "r", Databases: []string{"a"}}}}
	dumps := []*keep.Dump{d}
	run := &journal.Run{Result: journal.Failed, Started: now.Add(-time.Hour), Reason: "no route",
		Parts: []journal.Part{{Name: "b", Result: journal.Failed, Reason: "locked"}}}
	of := func(j Job) string {
		j.Name, j.Databases, j.Zone = "nightly", []string{"a"}, time.UTC
		l := Of(j, dumps, now)[0]
		return string(l.State) + ": " + l.Why
	}
	require.Equal(t, "good: ", of(Job{}))
	require.Equal(t, "failed: its newest run failed: no route", of(Job{LastRun: run}))
	run.Parts[0].Name = "a"
	require.Equal(t, "failed: its newest run failed: locked", of(Job{LastRun: run}))
	run.Parts[0].Result = journal.Good
	require.Equal(t, "good: ", of(Job{LastRun: run}), "others failed")
	run.Started = at.Add(-time.Hour)
	run.Parts = nil
	require.Equal(t, "good: ", of(Job{LastRun: run}), "it is older than the dump")
	month := 30 * 24 * time.Hour
	require.Equal(t, "unread: a dump of it was last read 40 days ago: 'grainkeep verify nightly --due' reads it", of(Job{ReadWithin: month}))
	require.Equal(t, "good: ", of(Job{ReadWithin: month, Read: map[string]time.Time{"d1": now.Add(-time.Hour)}}))
	d.Proofs = []keep.Proof{{Proven: true, At: now.Add(-time.Hour)}}
	require.Equal(t, "good: ", of(Job{ReadWithin: month}), "a drill reads it too")
	room := keep.Room{Known: true, Free: 1500, Floor: 1000}
	require.Equal(t, "low on room: its keep has 500 B above its floor, and the last run took more", of(Job{Room: room}))
	room.Free = 3000
	require.Equal(t, "good: ", of(Job{Room: room}))
	require.True(t, Low.Worse(Unproven) && Low.Stale() && Unread.Stale() && !Shrunk.Stale())
}
