package scratch

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/fault"
)

func TestScratchFolders(t *testing.T) {
	base := t.TempDir()
	t.Setenv("TMPDIR", base)
	home := filepath.Join(base, fmt.Sprintf("grainkeep-%d", os.Getuid()))
	alive, err := New()
	require.NoError(t, err)
	require.Equal(t, home, filepath.Dir(alive.Path))
	st, err := os.Stat(home)
	require.NoError(t, err)
	require.EqualValues(t, 0o700, st.Mode().Perm())
	dead := filepath.Join(home, prefix+"dead")
	require.NoError(t, os.MkdirAll(filepath.Join(dead, "x"), 0o700))
	away := filepath.Join(base, "somebody's")
	require.NoError(t, os.Mkdir(away, 0o700))
	require.NoError(t, os.Symlink(away, filepath.Join(home, prefix+"link")))
	other, err := New()
	require.NoError(t, err)
	require.NoDirExists(t, dead, "its maker is gone")
	require.DirExists(t, alive.Path)
	require.DirExists(t, away, "a link is not followed")
	free, err := alive.Room()
	require.NoError(t, err)
	require.Positive(t, free)
	require.NoError(t, alive.Close())
	require.NoError(t, other.Close())
	require.NoDirExists(t, alive.Path)

	// What somebody else could have prepared is not used.
	require.NoError(t, os.Chmod(home, 0o777))
	_, err = New()
	require.True(t, fault.HasCode(err, "scratch-unwritable"))
	require.NoError(t, os.RemoveAll(home))
	require.NoError(t, os.Symlink(away, home))
	_, err = New()
	require.ErrorContains(t, err, "is not this user's own folder")
}
