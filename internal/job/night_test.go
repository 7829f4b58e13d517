package job

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/config"
	_ "grainkeep/internal/engine/sqlite"
	"grainkeep/internal/event"
	"grainkeep/internal/keep"
	_ "grainkeep/internal/store/folder"
)

const nightToml = `
[journal]
folder = "state"
[source.files]
engine = "sqlite"
path = "data"
accept = ["passed-over"]
[source.harbour]
engine = "command"
dump = ["cat", "messages"]
[keep.barn]
folder = "barn"
[[keep.barn.before]]
run = ["sh", "-c", "echo mount >> log"]
[[keep.barn.after]]
run = ["sh", "-c", "echo unmount >> log"]
[job.nightly]
source = "files"
keep = "barn"
accept = ["same-file-system"]
limit = "2 h"
wait = "5 min"
tries = 4
rate = "1 MiB/s"
priority = "low"
name = "{stamp}-{note}"
[[job.nightly.before]]
run = ["true"]
[[job.nightly.files]]
name = "papers"
folder = "papers"
split = true
[job.messages]
source = "harbour"
keep = "barn"
[tell.hook]
by = "webhook"
url = "http://127.0.0.1:1/"
on = ["success"]
again = "2 h"
`

func nightSet(t *testing.T) (Set, string) {
	t.Helper()
	dir := t.TempDir()
	t.Chdir(dir)
	f, err := config.Parse([]byte(nightToml), filepath.Join(dir, config.FileName))
	require.NoError(t, err)
	_, err = keep.Create(context.Background(), filepath.Join(dir, "barn"), false)
	require.NoError(t, err)
	return Of(f), dir
}

func TestWhatAJobHasAroundIt(t *testing.T) {
	s, dir := nightSet(t)
	j, err := s.Dump(context.Background(), "nightly")
	require.NoError(t, err)
	require.Equal(t, []time.Duration{2 * time.Hour, 5 * time.Minute}, []time.Duration{j.Limit, j.Wait})
	require.Equal(t, 4, j.Tries)
	require.Equal(t, 1<<20, j.Pace.Burst())
	require.Equal(t, []string{"same-file-system", "passed-over"}, j.Accept)
	require.Equal(t, []string{"true"}, j.Steps.Before[0].Words)
	require.Equal(t, filepath.Join(dir, "state", "undone"), j.Steps.Folder)
	require.Equal(t, filepath.Join(dir, "papers"), j.Folders[0].Path)
	require.Nil(t, j.Stream)
	require.True(t, s.Low("nightly"))
	require.False(t, s.Low("messages"))
	j, err = s.Dump(context.Background(), "messages")
	require.NoError(t, err)
	require.Equal(t, "harbour", j.Stream.Name)
	require.Empty(t, j.Source.Engine, "there are no databases")

	home, known := s.FolderOf("nightly", "+files-papers/crew")
	require.True(t, known)
	require.Equal(t, filepath.Join(dir, "papers", "crew"), home)
	_, known = s.FolderOf("nightly", "+files-papers/../../etc")
	require.False(t, known, "a keep chooses no place")
	_, known = s.FolderOf("nightly", "+files-other")
	require.False(t, known)

	journal, aside, err := s.Journal(context.Background())
	require.NoError(t, err)
	require.Empty(t, aside)
	defer journal.Close()
	teller, err := s.Teller(journal)
	require.NoError(t, err)
	require.Equal(t, 2*time.Hour, teller.Channels[0].Again)
	require.Equal(t, config.DefaultKeepFor, s.JournalKeeps())
}

// TestAKeepIsUsedOnce: however often it is opened, its steps run once, and those after when it is left.
func TestAKeepIsUsedOnce(t *testing.T) {
	s, dir := nightSet(t)
	uses := NewUses(&event.Feed{})
	for range 3 {
		k, err := s.With(uses).OpenKeep(context.Background(), "barn")
		require.NoError(t, err)
		_, err = k.Dumps(context.Background())
		require.NoError(t, err)
	}
	require.Empty(t, uses.Leave(context.Background()))
	require.Empty(t, uses.Leave(context.Background()))
	said, err := os.ReadFile(filepath.Join(dir, "log"))
	require.NoError(t, err)
	require.Equal(t, "mount\nunmount\n", string(said))
	require.NoError(t, s.MakeGood(context.Background(), &event.Feed{}))
}

func TestAnIndexIsAFile(t *testing.T) {
	x := indexes{filepath.Join(t.TempDir(), "keeps")}
	_, err := x.Read("abcd")
	require.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, x.Write("abcd", []byte("one")))
	require.NoError(t, x.Write("abcd", []byte("two")))
	data, err := x.Read("abcd")
	require.NoError(t, err)
	require.Equal(t, "two", string(data))
	list, err := os.ReadDir(x.folder)
	require.NoError(t, err)
	require.Len(t, list, 1, "nothing else is left")
	require.NoError(t, os.Remove(x.path("abcd")))
	require.NoError(t, os.Symlink("/etc/passwd", x.path("abcd")))
	_, err = x.Read("abcd")
	require.Error(t, err, "a link is none of ours")
}
