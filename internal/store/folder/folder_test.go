package folder

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/store"
)

var ctx = context.Background()

func barn(t *testing.T) (*Store, string) {
	t.Helper()
	dir := t.TempDir()
	s, err := Open(dir)
	require.NoError(t, err)
	return s, dir
}

func read(t *testing.T, s *Store, name string, offset, length int64) string {
	t.Helper()
	f, err := s.Open(ctx, name, offset, length)
	require.NoError(t, err)
	defer f.Close()
	data, err := io.ReadAll(f)
	require.NoError(t, err)
	return string(data)
}

func TestFilesComeWholeOrNotAtAll(t *testing.T) {
	s, dir := barn(t)
	w, err := s.Create(ctx, "a/b/c.txt")
	require.NoError(t, err)
	_, err = w.Write([]byte("0123456789"))
	require.NoError(t, err)
	_, err = s.Stat(ctx, "a/b/c.txt")
	require.ErrorIs(t, err, fs.ErrNotExist, "nobody sees it before it is complete")
	other, err := s.Create(ctx, "a/b/c.txt")
	require.NoError(t, err)
	require.NoError(t, w.Commit())
	require.ErrorIs(t, other.Commit(), fs.ErrExist, "the first one counts")
	_, err = s.Create(ctx, "a/b/c.txt")
	require.ErrorIs(t, err, fs.ErrExist)
	require.Equal(t, "0123456789", read(t, s, "a/b/c.txt", 0, -1))
	require.Equal(t, "345", read(t, s, "a/b/c.txt", 3, 3))
	w, err = s.Create(ctx, "a/b/d.txt")
	require.NoError(t, err)
	require.NoError(t, w.Abort())
	require.NoError(t, s.Replace(ctx, "a/b/c.txt", []byte("new")))
	require.Equal(t, "new", read(t, s, "a/b/c.txt", 0, -1))
	st, err := os.Stat(filepath.Join(dir, "a/b/c.txt"))
	require.NoError(t, err)
	require.EqualValues(t, 0o600, st.Mode().Perm())
	var seen []string
	require.NoError(t, s.List(ctx, "a/b", func(e store.Entry) error {
		seen = append(seen, e.Name)
		return nil
	}))
	require.Equal(t, []string{"a/b/c.txt"}, seen, "nothing else is left")
	boom := errors.New("boom")
	require.ErrorIs(t, s.List(ctx, "a/b", func(store.Entry) error { return boom }), boom)
	require.ErrorIs(t, s.List(ctx, "gone", func(store.Entry) error { return nil }), fs.ErrNotExist)
	require.Error(t, s.Remove(ctx, "a"), "a folder that is not empty stays")
	require.NoError(t, s.Remove(ctx, "a/b/c.txt"))
	require.NoError(t, s.Remove(ctx, "a/b"))
}

func TestNamesAndLinksLeadNowhere(t *testing.T) {
	s, dir := barn(t)
	away := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(away, "letter"), []byte("dear"), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "real"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "real", "x"), []byte("x"), 0o600))
	for name, to := range map[string]string{"out": away, "in": "real", "file": filepath.Join(away, "letter"),
		".work": away} {
		require.NoError(t, os.Symlink(to, filepath.Join(dir, name)))
	}
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o600))
	for _, name := range []string{"", "/etc/passwd", "..", "../x", "a/../../x", "a//b", "a/./b", "a b", "a\x00b", "ä",
		strings.Repeat("x", 300), strings.Repeat("x/", 600)} {
		_, err := s.Create(ctx, name)
		require.Error(t, err, "%q", name)
		_, err = s.Open(ctx, name, 0, -1)
		require.Error(t, err, "%q", name)
		require.Error(t, s.Replace(ctx, name, nil), "%q", name)
		require.Error(t, s.Remove(ctx, name), "%q", name)
	}
	for _, name := range []string{"out/letter", "in/x", "file", "pipe", "real"} {
		_, err := s.Open(ctx, name, 0, -1)
		require.ErrorIs(t, err, store.ErrNotRegular, name)
	}
	for _, name := range []string{"out/new", "in/new", "file/new", "pipe/new"} {
		_, err := s.Create(ctx, name)
		require.ErrorIs(t, err, store.ErrNotRegular, name)
		require.ErrorIs(t, s.Replace(ctx, name, nil), store.ErrNotRegular, name)
		require.ErrorIs(t, s.Remove(ctx, name), store.ErrNotRegular, name)
	}
	require.ErrorIs(t, s.Replace(ctx, "file", []byte("x")), store.ErrNotRegular)
	require.ErrorIs(t, s.List(ctx, "out", func(store.Entry) error { return nil }), store.ErrNotRegular)
	_, err := s.Stage(ctx, ".work/abcd")
	require.ErrorIs(t, err, store.ErrNotRegular)
	require.ErrorIs(t, s.Clear(ctx, ".work/letter"), store.ErrNotRegular)
	_, err = s.Lease(ctx, ".work/abcd.lease")
	require.Error(t, err)
	e, err := s.Stat(ctx, "file")
	require.NoError(t, err)
	require.True(t, e.Foreign)
	left, err := os.ReadDir(away)
	require.NoError(t, err)
	require.Len(t, left, 1)
	data, err := os.ReadFile(filepath.Join(away, "letter"))
	require.NoError(t, err)
	require.Equal(t, "dear", string(data))
}

func TestAStageIsPlacedAtOnce(t *testing.T) {
	s, dir := barn(t)
	g, err := s.Stage(ctx, ".work/abcd")
	require.NoError(t, err)
	_, err = s.Stage(ctx, ".work/abcd")
	require.ErrorIs(t, err, fs.ErrExist)
	_, err = s.Stage(ctx, "open/abcd")
	require.Error(t, err, "a stage is hidden")
	require.Error(t, s.Clear(ctx, "nightly/abcd"), "and only such a one is cleared")
	require.NoError(t, store.WriteNew(ctx, g, "d/deep/x", []byte("x")))
	require.ErrorIs(t, store.WriteNew(ctx, g, "d/deep/x", nil), fs.ErrExist)
	e, err := g.Stat(ctx, "d/deep/x")
	require.NoError(t, err)
	require.EqualValues(t, 1, e.Bytes)
	require.False(t, g.Exposed())
	require.NoError(t, g.Place(ctx, "d", "job/db/one"))
	require.Equal(t, "x", read(t, s, "job/db/one/deep/x", 0, -1))
	require.NoError(t, store.WriteNew(ctx, g, "e/y", nil))
	require.ErrorIs(t, g.Place(ctx, "e", "job/db/one"), fs.ErrExist, "nothing is replaced")
	require.NoError(t, os.Symlink("/etc", filepath.Join(dir, ".work/abcd/e/link")))
	require.ErrorIs(t, g.Place(ctx, "e", "job/db/two"), store.ErrNotRegular)
	require.NoError(t, s.Clear(ctx, ".work/abcd"))
	require.NoDirExists(t, filepath.Join(dir, ".work"))
	require.NoError(t, s.Clear(ctx, ".work/abcd"), "done already is done")
}

// TestWhatIsCompleteIsOnTheDisk: every file and every folder above it is synced, before and
// after it has its name, and a disk that fails then is heard.
func TestWhatIsCompleteIsOnTheDisk(t *testing.T) {
	s, dir := barn(t)
	var synced []string
	var fail string
	boom := errors.New("boom")
	defer func() { fsync = (*os.File).Sync }()
	fsync = func(f *os.File) error {
		name := strings.TrimPrefix(strings.TrimPrefix(f.Name(), dir), "/")
		synced = append(synced, name)
		if fail != "" && strings.Contains(name, fail) {
			return boom
		}
		return f.Sync()
	}
	require.NoError(t, store.WriteNew(ctx, s, "proofs/ab/x.json", []byte("x")))
	require.Len(t, synced, 4, "two new folders' parents, the file, its folder: %q", synced)
	require.Contains(t, synced[2], newName)
	require.Equal(t, "proofs/ab", synced[3])
	fail = newName
	require.ErrorIs(t, store.WriteNew(ctx, s, "proofs/ab/y.json", []byte("x")), boom)
	require.NoFileExists(t, filepath.Join(dir, "proofs/ab/y.json"))
	fail, synced = "", nil
	g, err := s.Stage(ctx, ".work/abcd")
	require.NoError(t, err)
	require.NoError(t, store.WriteNew(ctx, g, "d/deep/x", []byte("x")))
	require.Contains(t, synced, ".work/abcd/d/deep/x")
	synced = nil
	require.NoError(t, g.Place(ctx, "d", "job/db/one"))
	require.Subset(t, synced, []string{".work/abcd/d/deep", ".work/abcd/d", "job", "job/db"})
	require.NoError(t, store.WriteNew(ctx, g, "e/deep/x", []byte("x")))
	fail = "e/deep"
	require.ErrorIs(t, g.Place(ctx, "e", "job/db/two"), boom)
	require.NoDirExists(t, filepath.Join(dir, "job/db/two"))
	require.ErrorIs(t, store.WriteNew(ctx, g, "e/deep/y", []byte("x")), boom)
}

// TestTwoMachinesOnOneFolder: over a shared mount a lock of one machine may not be seen by
// another. The heartbeat is.
func TestTwoMachinesOnOneFolder(t *testing.T) {
	s, dir := barn(t)
	l, err := s.Lease(ctx, ".work/job-x.lease")
	require.NoError(t, err)
	require.NoError(t, l.Held())
	_, err = s.Lease(ctx, ".work/job-x.lease")
	var held *store.HeldError
	require.ErrorAs(t, err, &held)
	require.True(t, held.Here)
	require.Equal(t, os.Getpid(), held.Holder.PID)
	require.NoError(t, l.Release())
	require.NoDirExists(t, filepath.Join(dir, ".work"))

	// Another machine's, whose lock is not seen here.
	path := filepath.Join(dir, ".work", "job-x.lease")
	require.NoError(t, os.Mkdir(filepath.Dir(path), 0o700))
	data, err := json.Marshal(store.Holder{PID: 7, Host: "pilot", Boot: "another", Since: time.Now()})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, data, 0o600))
	for _, silent := range []time.Duration{0, store.Expiry - 10*time.Second} {
		require.NoError(t, os.Chtimes(path, time.Time{}, time.Now().Add(-silent)))
		_, err = s.Lease(ctx, ".work/job-x.lease")
		require.ErrorAs(t, err, &held, "it was silent for %s only", silent)
		require.Equal(t, "pilot", held.Holder.Host)
		require.False(t, held.Here)
		require.InDelta(t, silent.Seconds(), held.Silent.Seconds(), 5)
	}
	require.NoError(t, os.Chtimes(path, time.Time{}, time.Now().Add(-store.Expiry-time.Second)))
	l, err = s.Lease(ctx, ".work/job-x.lease")
	require.NoError(t, err, "who is silent for so long is dead")

	// Somebody takes it away: the holder notices, and does not remove the new one's.
	require.NoError(t, os.Remove(path))
	require.NoError(t, os.WriteFile(path, data, 0o600))
	require.Error(t, l.Held())
	require.NoError(t, l.Release())
	require.FileExists(t, path)
}

// TestAHolderShowsThatItIsAlive: its lease's time goes on, and stops with it.
func TestAHolderShowsThatItIsAlive(t *testing.T) {
	heartbeat = 5 * time.Millisecond
	defer func() { heartbeat = store.Heartbeat }()
	s, dir := barn(t)
	l, err := s.Lease(ctx, ".work/job-x.lease")
	require.NoError(t, err)
	path := filepath.Join(dir, ".work", "job-x.lease")
	old := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(path, old, old))
	require.Eventually(t, func() bool {
		st, err := os.Stat(path)
		return err == nil && time.Since(st.ModTime()) < time.Minute
	}, 10*time.Second, time.Millisecond)
	require.NoError(t, l.Held())
	require.NoError(t, l.Release())
	require.NoFileExists(t, path)
}

func TestOneHoldsALeaseAtATime(t *testing.T) {
	s, dir := barn(t)
	var group sync.WaitGroup
	var inside, most, taken int
	var mu sync.Mutex
	for range 16 {
		group.Go(func() {
			other, err := Open(dir)
			if err != nil {
				t.Error(err)
				return
			}
			for range 20 {
				l, err := other.Lease(ctx, ".work/one.lease")
				if err != nil {
					continue
				}
				mu.Lock()
				inside++
				taken++
				most = max(most, inside)
				mu.Unlock()
				mu.Lock()
				inside--
				mu.Unlock()
				if err := l.Release(); err != nil {
					t.Error(err)
				}
			}
		})
	}
	group.Wait()
	require.Equal(t, 1, most)
	require.Positive(t, taken)
	_, err := s.Stat(ctx, ".work")
	require.ErrorIs(t, err, fs.ErrNotExist)
}

func TestAFolderThatGoesAway(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "barn")
	require.NoError(t, os.Mkdir(dir, 0o700))
	s, err := Open(dir)
	require.NoError(t, err)
	require.True(t, s.Present())
	same, known := s.SameDrive(filepath.Dir(dir))
	require.True(t, same && known)
	_, known = s.SameDrive("/nowhere")
	require.False(t, known, "what is not there is not elsewhere")
	require.NoError(t, os.Rename(dir, dir+"-gone"))
	require.False(t, s.Present())
	require.NoError(t, os.Mkdir(dir, 0o700))
	require.False(t, s.Present(), "another folder of that name is not it")
}
