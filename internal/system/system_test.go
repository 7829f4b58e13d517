package system

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestLocks: who locks is alone until the file is closed; who shares is not, and keeps the others away.
func TestLocks(t *testing.T) {
	path := filepath.Join(t.TempDir(), "lock")
	open := func() *os.File {
		f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
		require.NoError(t, err)
		t.Cleanup(func() { f.Close() })
		return f
	}
	a, b, c := open(), open(), open()
	require.NoError(t, Lock(a))
	require.ErrorIs(t, Lock(b), ErrLocked)
	require.ErrorIs(t, LockShared(b), ErrLocked)
	require.NoError(t, LockShared(a), "a lock becomes a shared one")
	require.NoError(t, LockShared(b))
	require.ErrorIs(t, Lock(c), ErrLocked)
	require.NoError(t, a.Close())
	require.NoError(t, b.Close())
	require.NoError(t, Lock(c))
	require.True(t, Still(c, path))
	require.NoError(t, os.Rename(path, path+"-moved"))
	require.False(t, Still(c, path))
	require.NoError(t, os.Symlink(path+"-moved", path))
	require.False(t, Still(c, path), "a link is not the file")
}

// TestLocksOfFolders: a folder that is made anew under the same name is not locked by who had the one before.
func TestLocksOfFolders(t *testing.T) {
	path := filepath.Join(t.TempDir(), "run")
	_, err := LockFolder(path)
	require.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, os.Mkdir(path, 0o700))
	lock, err := LockFolder(path)
	require.NoError(t, err)
	_, err = LockFolder(path)
	require.ErrorIs(t, err, ErrLocked)
	require.True(t, IsLock(lock, path))
	require.NoError(t, os.WriteFile(filepath.Join(path, "left"), nil, 0o600))
	require.NoError(t, RemoveLocked(path, lock))
	require.NoDirExists(t, path)
	require.NoError(t, os.Mkdir(path, 0o700))
	again, err := LockFolder(path)
	require.NoError(t, err)
	require.True(t, IsLock(again, path))
	require.NoError(t, os.Remove(path))
	require.NoError(t, os.Mkdir(path, 0o700))
	require.False(t, IsLock(again, path))
	require.NoError(t, again.Close())
}

// TestWhatIsKnown: processes, drives and files are what they are.
func TestWhatIsKnown(t *testing.T) {
	require.True(t, Alive(os.Getpid()))
	cmd := exec.Command("true")
	require.NoError(t, cmd.Run())
	require.False(t, Alive(cmd.Process.Pid))

	dir := t.TempDir()
	same, known := SameDrive(dir, filepath.Dir(dir))
	require.True(t, same && known)
	_, known = SameDrive(dir, filepath.Join(dir, "nowhere"))
	require.False(t, known)
	free, total, err := Room(dir)
	require.NoError(t, err)
	require.True(t, 0 < free && free <= total)
	_, _, err = Room(filepath.Join(dir, "nowhere"))
	require.ErrorContains(t, err, "the free space of "+dir)
	require.NoError(t, SyncFolder(dir))
	require.ErrorIs(t, SyncFolder(filepath.Join(dir, "nowhere")), os.ErrNotExist)

	path := filepath.Join(dir, "one")
	require.NoError(t, os.WriteFile(path, []byte("text"), 0o600))
	require.NoError(t, os.Link(path, path+"-too"))
	a, err := os.Lstat(path)
	require.NoError(t, err)
	b, err := os.Lstat(path + "-too")
	require.NoError(t, err)
	x, known := FactsOf(a)
	require.True(t, known && Belongs(a))
	y, _ := FactsOf(b)
	require.Equal(t, x, y)
	require.EqualValues(t, 2, x.Links)
	require.Equal(t, os.Getuid(), x.UID)
}
