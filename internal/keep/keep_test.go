package keep

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	_ "grainkeep/internal/store/folder"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
	"grainkeep/internal/store"
)

var ctx = context.Background()

func TestEscapeNameIsReversibleAndSafe(t *testing.T) {
	seen := map[string]string{}
	for name, want := range map[string]string{
		"bookings": "bookings", "season_2026": "season_2026", "app.db": "app.db", "Bookings": "%42ookings",
		"a/b c\"d'é": "a%2fb%20c%22d%27%c3%a9",
		".hidden":    "%2ehidden", "+server": "%2bserver", "%41": "%2541", "": "%", "..": "%2e%2e", "end.": "end%2e",
		"-x": "%2dx", "new\nline": "new%0aline",
	} {
		got := EscapeName(name)
		require.Equal(t, want, got)
		require.Empty(t, seen[strings.ToLower(got)], "%q and %q would share a folder", name, seen[strings.ToLower(got)])
		seen[strings.ToLower(got)] = name
	}
	long := EscapeName(strings.Repeat("É", 300))
	require.LessOrEqual(t, len(long), maxName)
	require.NotEqual(t, long, EscapeName(strings.Repeat("É", 301)))
	require.NotEqual(t, TableFolder("a.b", "c"), TableFolder("a", "b.c"))
}

// barn makes a keep in a new folder.
func barn(t *testing.T) (*Keep, string) {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "barn")
	k, err := Create(ctx, dir, false)
	require.NoError(t, err)
	return k, dir
}

func TestOpenWantsTheMarker(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "barn")
	_, err := Open(ctx, dir)
	require.True(t, fault.HasCode(err, "keep-absent"))
	require.NoError(t, os.Mkdir(dir, 0o700))
	_, err = Open(ctx, dir)
	require.True(t, fault.HasCode(err, "keep-unmarked"))
	require.Contains(t, fault.Of(err).Do, "it may not be mounted")
	k, err := Create(ctx, dir, false)
	require.NoError(t, err)
	_, err = Create(ctx, dir, true)
	require.True(t, fault.HasCode(err, "keep-exists"))
	again, err := Open(ctx, dir)
	require.NoError(t, err)
	require.Equal(t, k.ID, again.ID)
	found, err := again.Check(ctx)
	require.NoError(t, err)
	require.Empty(t, found)
	start := filepath.Join(dir, startName)
	require.NoError(t, os.WriteFile(start, []byte("pay first"), 0o600))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "jobs"), 0o700))
	require.NoError(t, again.SaveJob(ctx, "nightly", []byte("x = 1\n"), nil))
	text, err := again.Job(ctx, "nightly")
	require.NoError(t, err)
	require.Contains(t, string(text), "x = 1\n# sha256 of the lines above: ")
	require.NoError(t, os.WriteFile(filepath.Join(dir, jobFile("nightly")), []byte("x = 2\n"), 0o600))
	found, err = again.Check(ctx)
	require.NoError(t, err)
	require.Len(t, found, 2)
	require.Contains(t, found[0], "START-HERE.txt is not as it was written")
	require.Contains(t, found[1], "nightly.toml is damaged")

	require.NoError(t, os.WriteFile(filepath.Join(dir, markerName), []byte("{"), 0o600))
	_, err = Open(ctx, dir)
	require.True(t, fault.HasCode(err, "keep-marker-damaged"))
}

func TestCreateTouchesNothingForeign(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "photo.jpg"), []byte("x"), 0o600))
	_, err := Create(ctx, dir, false)
	require.True(t, fault.HasCode(err, "keep-not-empty"))
	_, err = Open(ctx, dir)
	require.Error(t, err)
	_, err = Create(ctx, dir, true)
	require.NoError(t, err)
}

func TestLeasesAndLeftovers(t *testing.T) {
	k, dir := barn(t)
	lease, err := k.LockJob(ctx, "nightly")
	require.NoError(t, err)
	_, err = k.LockJob(ctx, "nightly")
	require.Equal(t, fault.Running, fault.Of(err).Class)
	require.Contains(t, err.Error(), "process ")
	other, err := k.LockJob(ctx, "weekly")
	require.NoError(t, err)
	require.NoError(t, other.Release())

	alive, err := k.Begin(ctx, "a11ce")
	require.NoError(t, err)
	work := filepath.Join(dir, workName)
	require.NoError(t, os.MkdirAll(filepath.Join(work, "dead", "x"), 0o700))
	require.NoError(t, os.MkdirAll(filepath.Join(work, "somebody's"), 0o700))
	runs, err := k.Sweep(ctx)
	require.NoError(t, err)
	require.Equal(t, 1, runs)
	require.NoDirExists(t, filepath.Join(work, "dead"))
	require.DirExists(t, filepath.Join(work, "a11ce"), "it is alive")
	require.DirExists(t, filepath.Join(work, "somebody's"), "no keep gives such a name")
	require.NoError(t, os.Remove(filepath.Join(work, "somebody's")))
	require.NoError(t, alive.Close(ctx))
	require.NoError(t, lease.Release())
	_, err = k.Sweep(ctx)
	require.NoError(t, err)
	require.NoDirExists(t, work, "nothing is left")
}

// small gives a manifest that can be placed.
func small(k *Keep, run, note string) *manifest.Manifest {
	moment := time.Date(2026, 3, 14, 2, 30, 0, 0, time.UTC)
	return &manifest.Manifest{Format: 1, Keep: k.ID, Job: "nightly", Database: "odd/name", Kind: manifest.Full,
		Moment: moment, Tool: note,
		Started: moment, Finished: moment, Run: manifest.Run{ID: run, Started: moment},
		Payload: manifest.Payload{Type: manifest.TypeSQL, SQL: &manifest.SQL{Catalog: strings.Repeat("ab", 32)}}}
}

// place puts a dump into a keep.
func place(t *testing.T, k *Keep, run, note string) *Dump {
	t.Helper()
	s, err := k.Begin(ctx, run)
	require.NoError(t, err)
	draft, err := s.Draft(ctx, small(k, run, note), phrase.DefaultFolderName)
	require.NoError(t, err)
	d, err := draft.Place(ctx)
	require.NoError(t, err)
	require.NoError(t, s.Close(ctx))
	return d
}

func TestPlaceNeverReplaces(t *testing.T) {
	k, _ := barn(t)
	first, second := place(t, k, "aaaa", "a"), place(t, k, "bbbb", "b")
	require.Equal(t, "20260314T023000Z-full", filepath.Base(first.Path()))
	require.Equal(t, "20260314T023000Z-full-2", filepath.Base(second.Path()))
	// no manifest: no dump
	require.NoError(t, os.Mkdir(filepath.Join(filepath.Dir(first.Path()), "20260314T030000Z-full"), 0o700))
	dumps, err := k.Dumps(ctx)
	require.NoError(t, err)
	require.Len(t, dumps, 2)
	require.Equal(t, "odd/name", dumps[0].Manifest.Database)

	moment := dumps[0].Manifest.Moment
	require.NoError(t, (&Dump{Keep: k}).Record(ctx, Proof{Dump: dumps[0].ID, At: moment, Proven: true}))
	require.NoError(t, (&Dump{Keep: k}).Record(ctx, Proof{Dump: dumps[0].ID, At: moment.Add(time.Hour)}))
	dumps, err = k.Dumps(ctx)
	require.NoError(t, err)
	require.Equal(t, Failed, dumps[0].State(), "the newest drill counts")
	require.Equal(t, Unproven, dumps[1].State())
}

func TestProofsThatDoNotCount(t *testing.T) {
	k, dir := barn(t)
	d := place(t, k, "aaaa", "a")
	at := time.Date(2026, 3, 15, 0, 0, 0, 0, time.UTC)
	state := func() (State, error) {
		dumps, err := k.Dumps(ctx)
		require.NoError(t, err)
		return dumps[0].State(), dumps[0].ProofErr
	}
	require.NoError(t, (&Dump{Keep: k}).Record(ctx, Proof{Dump: d.ID, At: at, Proven: true}))
	s, err := state()
	require.NoError(t, err)
	require.Equal(t, Proven, s)
	// The proof of another dump, and a damaged one, do not prove this one; and no older
	// one speaks in their place.
	require.NoError(t, (&Dump{Keep: k}).Record(ctx, Proof{Dump: strings.Repeat("ee", 32), At: at.Add(time.Hour), Proven: true}))
	folder := filepath.Join(dir, proofsName, d.ID)
	newer := filepath.Join(folder, at.Add(time.Hour).Format("20060102T150405.000Z")+".json")
	require.NoError(t, os.Rename(filepath.Join(dir, proofsName, strings.Repeat("ee", 32), filepath.Base(newer)), newer))
	s, err = state()
	require.ErrorContains(t, err, "the proof of another dump")
	require.Equal(t, Unproven, s)
	require.NoError(t, os.WriteFile(newer, []byte("{"), 0o600))
	s, err = state()
	require.True(t, fault.HasCode(err, "proof-damaged"))
	require.Equal(t, Unproven, s)
	require.NoError(t, (&Dump{Keep: k}).Record(ctx, Proof{Dump: d.ID, At: at.Add(2 * time.Hour), Proven: true}))
	s, err = state()
	require.NoError(t, err, "a newer drill settles it")
	require.Equal(t, Proven, s)
}

// TestAKeepKnowsWhatItHolds: what vanishes, appears or moves is told, and what was removed
// is not missed.
func TestAKeepKnowsWhatItHolds(t *testing.T) {
	k, dir := barn(t)
	a, b, c := place(t, k, "aaaa", "a"), place(t, k, "bbbb", "b"), place(t, k, "cccc", "c")
	require.NoError(t, k.RecordRun(ctx, "aaaa", "nightly", []*Dump{a, b}, nil))
	audit := func() string {
		dumps, err := k.Dumps(ctx)
		require.NoError(t, err)
		found, err := k.Audit(ctx, dumps)
		require.NoError(t, err)
		say := ""
		for _, p := range found.Missing {
			say += "missing " + p.ID + " "
		}
		for _, d := range found.Unknown {
			say += "unknown " + d.ID + " "
		}
		for _, d := range found.Moved {
			say += "moved " + d.ID + " "
		}
		for _, err := range found.Broken {
			say += fault.Of(err).Code + " "
		}
		return strings.TrimSpace(say)
	}
	require.Equal(t, "unknown "+c.ID, audit())
	require.NoError(t, k.RecordRun(ctx, "cccc", "nightly", []*Dump{c}, nil))
	require.Empty(t, audit())
	require.NoError(t, os.Rename(b.Path(), b.Path()+"9"))
	require.Equal(t, "moved "+b.ID, audit())
	require.NoError(t, os.Rename(b.Path()+"9", b.Path()))
	require.NoError(t, os.Remove(filepath.Join(b.Path(), manifest.Name)))
	require.Equal(t, "missing "+b.ID, audit())
	require.NoError(t, k.Forget(ctx, "nightly", b.placed(), "it was a test"))
	require.Empty(t, audit())
	require.NoError(t, k.Remove(ctx, c, ""))
	require.NoDirExists(t, c.Path())
	require.Empty(t, audit(), "what was removed is not missed")
	records, err := filepath.Glob(filepath.Join(dir, runsName, "*.json"))
	require.NoError(t, err)
	require.Len(t, records, 4)
	require.NoError(t, os.WriteFile(records[0], []byte("{}"), 0o600))
	require.Equal(t, "unknown "+a.ID+" record-damaged", audit())
}

// TestAKilledRunIsRecorded: its dumps that came into place are not strangers.
func TestAKilledRunIsRecorded(t *testing.T) {
	k, dir := barn(t)
	s, err := k.Begin(ctx, "dead")
	require.NoError(t, err)
	draft, err := s.Draft(ctx, small(k, "dead", ""), phrase.DefaultFolderName)
	require.NoError(t, err)
	d, err := draft.Place(ctx)
	require.NoError(t, err)
	planted := place(t, k, "beef", "nobody's")
	seen, err := k.Dumps(ctx)
	require.NoError(t, err)
	found, err := k.Audit(ctx, seen)
	require.NoError(t, err)
	require.Equal(t, []*Dump{seen[1]}, found.Unknown, "what a run puts in place is known before its end")
	require.NoError(t, s.lease.Release()) // as the kernel does for a killed one
	runs, err := k.Sweep(ctx)
	require.NoError(t, err)
	require.Equal(t, 1, runs)
	dumps, err := k.Dumps(ctx)
	require.NoError(t, err)
	found, err = k.Audit(ctx, dumps)
	require.NoError(t, err)
	require.Len(t, found.Unknown, 1)
	require.Equal(t, planted.ID, found.Unknown[0].ID)
	require.NotEqual(t, planted.ID, d.ID)
	require.NoDirExists(t, filepath.Join(dir, workName))
}

// TestNothingIsPlacedThatIsNotThere: somebody removes a file of the unfinished dump, cuts
// one, takes the lease away, or the whole keep.
func TestNothingIsPlacedThatIsNotThere(t *testing.T) {
	for how, harm := range map[string]func(dir string) error{
		"removed": func(dir string) error { return os.Remove(filepath.Join(dir, workName, "aaaa", "odd%2fname", "x")) },
		"cut": func(dir string) error {
			return os.Truncate(filepath.Join(dir, workName, "aaaa", "odd%2fname", "x"), 1)
		},
		"folder": func(dir string) error { return os.RemoveAll(filepath.Join(dir, workName)) },
		"lease":  func(dir string) error { return os.Remove(filepath.Join(dir, workName, "aaaa"+leaseEnding)) },
		"keep":   func(dir string) error { return os.Rename(dir, dir+"-gone") },
	} {
		k, dir := barn(t)
		s, err := k.Begin(ctx, "aaaa")
		require.NoError(t, err)
		m := small(k, "aaaa", "")
		d, err := s.Draft(ctx, m, phrase.DefaultFolderName)
		require.NoError(t, err)
		require.NoError(t, store.WriteNew(ctx, d, "x", []byte("data")))
		m.Files, m.StoredBytes = []manifest.File{{Path: "x", Bytes: 4, SHA256: strings.Repeat("ab", 32)}}, 4
		require.NoError(t, harm(dir), how)
		_, err = d.Place(ctx)
		require.Error(t, err, how)
		if how != "keep" && how != "folder" {
			require.True(t, fault.HasCode(err, "work-vanished"), "%s: %v", how, err)
		}
		require.NoDirExists(t, filepath.Join(dir, "nightly"), how)
	}
}

func TestFloor(t *testing.T) {
	k, dir := barn(t)
	guard := k.Guard(ctx)
	require.NoError(t, guard(1))
	k.Floor = Floor{Bytes: 1 << 60}
	err := k.Guard(ctx)(1)
	require.True(t, fault.HasCode(err, "floor-reached"), "%v", err)
	require.NoError(t, os.Rename(dir, dir+"-gone"))
	require.True(t, fault.HasCode(k.Guard(ctx)(1), "keep-vanished"))
}
