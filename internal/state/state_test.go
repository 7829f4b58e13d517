package state

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhatRootMakesBelongsToTheOwnerOfTheFolder(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can give files away")
	}
	dir := t.TempDir()
	require.NoError(t, os.Chown(dir, 65534, 65534))
	require.NoError(t, Folder(filepath.Join(dir, "a", "b")))
	f, err := OpenFile(filepath.Join(dir, "a", "b", "f"), os.O_CREATE|os.O_RDWR)
	require.NoError(t, err)
	defer f.Close()
	temp, err := Temporary(filepath.Join(dir, "a"))
	require.NoError(t, err)
	defer temp.Close()
	for _, path := range []string{"a", "a/b", "a/b/f", "a/" + filepath.Base(temp.Name())} {
		st, err := os.Stat(filepath.Join(dir, path))
		require.NoError(t, err)
		require.EqualValues(t, 65534, st.Sys().(*syscall.Stat_t).Uid, path)
		require.Zero(t, st.Mode().Perm()&0o077, path)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "roots"), nil, 0o600))
	f, err = OpenFile(filepath.Join(dir, "roots"), os.O_CREATE|os.O_RDWR)
	require.NoError(t, err)
	defer f.Close()
	st, err := f.Stat()
	require.NoError(t, err)
	require.Zero(t, st.Sys().(*syscall.Stat_t).Uid, "what was there stays whose it is")
}
