package keep

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
)

func TestEscapeNameIsReversibleAndSafe(t *testing.T) {
	seen := map[string]string{}
	for name, want := range map[string]string{
		"bookings": "bookings", "season_2026": "season_2026", "app.db": "app.db", "Bookings": "%42ookings", "a/b c\"d'é": "a%2fb%20c%22d%27%c3%a9",
		".hidden": "%2ehidden", "+server": "%2bserver", "%41": "%2541", "": "%", "..": "%2e%2e", "end.": "end%2e", "-x": "%2dx", "new\nline": "new%0aline",
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

func TestOpenWantsTheMarker(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "barn")
	_, err := Open(dir)
	require.True(t, fault.HasCode(err, "keep-absent"))
	require.NoError(t, os.Mkdir(dir, 0o700))
	_, err = Open(dir)
	require.True(t, fault.HasCode(err, "keep-not-founded"))
	require.Contains(t, fault.Of(err).Do, "it may not be mounted")
	k, err := Create(dir, false)
	require.NoError(t, err)
	_, err = Create(dir, true)
	require.True(t, fault.HasCode(err, "keep-exists"))
	again, err := Open(dir)
	require.NoError(t, err)
	require.Equal(t, k.ID, again.ID)
	require.NoError(t, os.WriteFile(filepath.Join(dir, markerName), []byte("{"), 0o600))
	_, err = Open(dir)
	require.True(t, fault.HasCode(err, "keep-marker-damaged"))
}

func TestCreateTouchesNothingForeign(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "photo.jpg"), []byte("x"), 0o600))
	_, err := Create(dir, false)
	require.True(t, fault.HasCode(err, "keep-not-empty"))
	_, err = Open(dir)
	require.Error(t, err)
	_, err = Create(dir, true)
	require.NoError(t, err)
}

func TestLocksAndLeftovers(t *testing.T) {
	k, err := Create(filepath.Join(t.TempDir(), "barn"), false)
	require.NoError(t, err)
	lock, err := k.LockJob("nightly")
	require.NoError(t, err)
	_, err = k.LockJob("nightly")
	require.Equal(t, fault.Running, fault.Of(err).Class)
	require.Contains(t, err.Error(), "process ")
	other, err := k.LockJob("weekly")
	require.NoError(t, err)
	other.Release()

	alive, err := k.NewWork("alive")
	require.NoError(t, err)
	dead := filepath.Join(k.workFolder(), "dead")
	require.NoError(t, os.MkdirAll(filepath.Join(dead, "x"), 0o700))
	removed, err := k.Sweep()
	require.NoError(t, err)
	require.Equal(t, []string{"dead"}, removed)
	require.DirExists(t, alive.Folder)
	require.NoError(t, alive.Close())
	lock.Release()
	_, err = k.Sweep()
	require.NoError(t, err)
	require.NoDirExists(t, k.workFolder(), "nothing is left")
}

func TestPlaceNeverReplaces(t *testing.T) {
	k, err := Create(filepath.Join(t.TempDir(), "barn"), false)
	require.NoError(t, err)
	moment := time.Date(2026, 3, 14, 2, 30, 0, 0, time.UTC)
	place := func(note string) string {
		w, err := k.NewWork("run" + note)
		require.NoError(t, err)
		defer w.Close()
		from := filepath.Join(w.Folder, "d")
		require.NoError(t, os.Mkdir(from, 0o700))
		m := manifest.Manifest{Format: 1, Job: "nightly", Database: "odd/name", Kind: manifest.Full, Moment: moment, Tool: note}
		data, _, err := m.Encode()
		require.NoError(t, err)
		require.NoError(t, WriteNew(filepath.Join(from, manifest.Name), data))
		path, err := w.Place(from, "nightly", "odd/name", moment, "full")
		require.NoError(t, err)
		return path
	}
	first, second := place("a"), place("b")
	require.Equal(t, "20260314T023000Z-full", filepath.Base(first))
	require.Equal(t, "20260314T023000Z-full-2", filepath.Base(second))
	require.NoError(t, os.Mkdir(filepath.Join(filepath.Dir(first), "20260314T030000Z-full"), 0o700)) // no manifest: no dump
	dumps, err := k.Dumps()
	require.NoError(t, err)
	require.Len(t, dumps, 2)
	require.Equal(t, "odd/name", dumps[0].Manifest.Database)

	require.NoError(t, k.Record(Proof{Dump: dumps[0].ID, At: moment, Proven: true}))
	require.NoError(t, k.Record(Proof{Dump: dumps[0].ID, At: moment.Add(time.Hour)}))
	dumps, err = k.Dumps()
	require.NoError(t, err)
	require.Equal(t, "failed its drill", dumps[0].State(), "the newest drill counts")
	require.Equal(t, "unproven", dumps[1].State())
}

func TestFloor(t *testing.T) {
	k, err := Create(filepath.Join(t.TempDir(), "barn"), false)
	require.NoError(t, err)
	guard := k.Guard()
	require.NoError(t, guard(1))
	k.Floor = Floor{Bytes: 1 << 60}
	err = k.Guard()(1)
	require.True(t, fault.HasCode(err, "floor-reached"), "%v", err)
	require.NoError(t, os.Rename(k.Folder, k.Folder+"-gone"))
	require.True(t, fault.HasCode(k.Guard()(1), "keep-vanished"))
	for text, want := range map[string]Floor{"": {}, "15%": {Percent: 15}, "20 GiB": {Bytes: 20 << 30}} {
		got, err := ParseFloor(text)
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	_, err = ParseFloor("150%")
	require.Error(t, err)
}
