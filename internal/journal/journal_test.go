package journal

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/stdlib"
	"github.com/stretchr/testify/require"

	"grainkeep/internal/event"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/testserver"
)

var ctx = context.Background()

// both runs a test on a file, and on a database of a PostgreSQL server.
func both(t *testing.T, do func(t *testing.T, open func() *Journal)) {
	t.Run("file", func(t *testing.T) {
		dir := t.TempDir()
		do(t, func() *Journal {
			j, aside, err := Open(ctx, dir)
			require.NoError(t, err)
			require.Empty(t, aside)
			t.Cleanup(func() { j.Close() })
			return j
		})
	})
	t.Run("postgres", func(t *testing.T) {
		dir, err := os.MkdirTemp("", "grainkeep-test-")
		require.NoError(t, err)
		require.NoError(t, os.Chmod(dir, 0o755))
		defer os.RemoveAll(dir)
		s, err := testserver.StartPostgres(dir)
		if err != nil {
			t.Skip("no PostgreSQL: ", err)
		}
		defer s.Close()
		logs := t.TempDir()
		do(t, func() *Journal {
			j, err := Share(ctx, stdlib.OpenDB(*s.Config("postgres")), "quay/journal", logs)
			require.NoError(t, err)
			t.Cleanup(func() { j.Close() })
			return j
		})
	})
}

func TestRunsAreNoted(t *testing.T) {
	both(t, func(t *testing.T, open func() *Journal) {
		j := open()
		require.True(t, j.Fresh())
		m := &event.Meter{}
		e, err := j.Begin(ctx, Run{ID: "0a1b2c", Command: "dump", Job: "nightly", StartedBy: "schedule"}, m)
		require.NoError(t, err)
		other := open()
		require.False(t, other.Fresh())
		killed, err := other.Settle(ctx)
		require.NoError(t, err)
		require.Empty(t, killed, "it goes on")
		e.Hear(event.Warning{Code: "shrunk", Of: "boo\x00kings", What: "the table t is gone\x1b[31m"})
		e.At(ctx, "k1", "/barn")
		moment := time.Date(2026, 3, 14, 2, 30, 0, 123456000, time.UTC)
		e.Part(ctx, Part{Name: "bookings", Dump: "d1", Kind: "full", Moment: moment, Took: 1500 * time.Millisecond,
			Rows: 7, Stored: 9, Result: Good})
		e.Part(ctx, Part{Name: "cargo", Result: Failed, Code: "disk-full", Reason: "no room \xff"})
		require.NoError(t, e.End(ctx, Outcome{Result: Failed, Code: "disk-full", Reason: "no room",
			Advice: "make some"}))
		runs, err := other.Runs(ctx, Filter{Job: "nightly", Name: "cargo", Commands: []string{"dump"},
			Results: []Result{Failed}, ID: "0a1b", Kind: "full",
			Since: time.Now().Add(-time.Hour), Until: time.Now().Add(time.Hour), Keep: "k1", Most: 5})
		require.NoError(t, err)
		require.Len(t, runs, 1)
		r := runs[0]
		require.Equal(t, []Warning{{"shrunk", "boo\x00kings", "the table t is gone\x1b[31m"}}, r.Warnings)
		require.Equal(t, moment, r.Parts[0].Moment)
		require.Equal(t, 1500*time.Millisecond, r.Parts[0].Took)
		require.Equal(t, "no room \uFFFD", r.Parts[1].Reason)
		log, err := os.ReadFile(r.Log)
		require.NoError(t, err)
		require.NotContains(t, string(log), "\x1b", "a log is read on terminals")
		require.Contains(t, string(log), "failed         no room")
		for _, f := range []Filter{{ID: "b"}, {Job: "x"}, {Name: "roster"}, {Kind: "incremental"},
			{Results: []Result{Good}}, {Until: time.Now().Add(-time.Hour)}} {
			runs, err := j.Runs(ctx, f)
			require.NoError(t, err)
			require.Empty(t, runs)
		}
		counts, err := j.Counts(ctx)
		require.NoError(t, err)
		require.Equal(t, []Count{{"nightly", "dump", Failed, 1}}, counts)
	})
}

func TestRunsThatWereKilledAndOldOnes(t *testing.T) {
	both(t, func(t *testing.T, open func() *Journal) {
		j := open()
		e, err := j.Begin(ctx, Run{ID: "dead", Command: "dump", Job: "nightly"}, &event.Meter{})
		require.NoError(t, err)
		close(e.stop)
		e.gone.Wait()
		require.NoError(t, e.log.Close(), "as if the process were killed")
		killed, err := j.Settle(ctx)
		require.NoError(t, err)
		require.Equal(t, "dead", killed[0].ID)
		last, err := j.Last(ctx, "nightly", "dump", Killed)
		require.NoError(t, err)
		require.Contains(t, last.Reason, "ended without a word")

		// What a journal says chooses no file, and runs of others count as dead only after a long silence.
		for _, log := range []string{"/etc/passwd", filepath.Join(j.folder, logsName, "..", "x"), filepath.Join(j.folder,
			logsName, "link")} {
			_, err := j.exec(ctx, "UPDATE run SET log = ?, result = 'running', beat = ? WHERE id = 'dead'", log, micros(time.Now()))
			require.NoError(t, err)
			runs, err := j.Runs(ctx, Filter{ID: "dead"})
			require.NoError(t, err)
			_ = os.Symlink("/etc/passwd", filepath.Join(j.folder, logsName, "link"))
			_, err = j.Log(runs[0])
			require.Error(t, err, log)
			if !j.ours(runs[0]) {
				killed, err := j.Settle(ctx)
				require.NoError(t, err)
				require.Empty(t, killed)
			}
		}
		require.NoError(t, os.Remove(filepath.Join(j.folder, logsName, "link")))
		require.NoError(t, os.Remove(last.Log), "it is in no run any more")
		killed, err = j.Settle(ctx)
		require.NoError(t, err)
		require.Len(t, killed, 1)

		d, err := j.Begin(ctx, Run{ID: "proof", Command: "drill", Job: "nightly"}, &event.Meter{})
		require.NoError(t, err)
		at := time.Now().UTC().Truncate(time.Microsecond)
		d.Part(ctx, Part{Name: "a", Dump: "d1", Ended: at, Result: Good})
		d.Part(ctx, Part{Name: "a", Dump: "d1", Ended: at.Add(-time.Hour), Result: Good})
		d.Part(ctx, Part{Name: "b", Dump: "d2", Ended: at, Result: Failed})
		require.NoError(t, d.End(ctx, Outcome{Result: Good}))
		read, err := j.ReadBack(ctx)
		require.NoError(t, err)
		require.Equal(t, map[string]time.Time{"d1": at}, read)

		require.NoError(t, j.Prune(ctx, time.Now().Add(time.Hour)))
		runs, err := j.Runs(ctx, Filter{})
		require.NoError(t, err)
		require.Empty(t, runs)
		logs, err := filepath.Glob(filepath.Join(j.folder, logsName, "*"))
		require.NoError(t, err)
		require.Empty(t, logs)
	})
}

// TestAJournalIsPutBack: what keeps can tell comes again, once.
func TestAJournalIsPutBack(t *testing.T) {
	both(t, func(t *testing.T, open func() *Journal) {
		j := open()
		at := time.Date(2026, 3, 14, 2, 30, 0, 0, time.UTC)
		m := &manifest.Manifest{Job: "nightly", Database: "a", Kind: manifest.Full, Moment: at, Started: at,
			Finished: at.Add(time.Minute),
			Run:      manifest.Run{ID: "r1", Started: at}, Warnings: []manifest.Warning{{Code: "shrunk", Text: "x"}}}
		dumps := []*keep.Dump{{ID: strings.Repeat("a", 64), Manifest: m, Proofs: []keep.Proof{{At: at.Add(time.Hour),
			Proven: true}}}, {Err: os.ErrInvalid}}
		for range 2 {
			require.NoError(t, j.Rebuild(ctx, dumps))
		}
		runs, err := j.Runs(ctx, Filter{})
		require.NoError(t, err)
		require.Len(t, runs, 2)
		require.Equal(t, Warned, runs[1].Result)
		require.Equal(t, time.Minute, runs[1].Parts[0].Took)
	})
}

// TestADamagedJournalLosesNoDump: it is put aside, and a new one begun.
func TestADamagedJournalLosesNoDump(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, fileName), []byte(strings.Repeat("no database ", 1000)), 0o600))
	j, aside, err := Open(ctx, dir)
	require.NoError(t, err)
	defer j.Close()
	require.FileExists(t, aside)
	require.True(t, j.Fresh())
	_, err = j.exec(ctx, "UPDATE meta SET value = '99' WHERE name = 'version'")
	require.NoError(t, err)
	_, _, err = Open(ctx, dir)
	require.ErrorContains(t, err, "this program knows versions up to 1")
}
