package manifest

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/fault"
)

func TestEncodeAndDecode(t *testing.T) {
	m := &Manifest{Format: Version, Job: "nightly", Database: "a/b \"c\"\n<é>", Kind: Full, Moment: time.Date(2026, 3, 14, 2, 30, 0, 123456000, time.UTC),
		Tables: []Table{{ID: "t", Name: "t", Columns: []string{"a"}, Rows: 3, Sum: "00ff"}, {ID: "u", Rows: 4}}, Files: []File{{Path: "x", Bytes: 1, SHA256: "ab"}}}
	data, id, err := m.Encode()
	require.NoError(t, err)
	got, gotID, err := Decode(data)
	require.NoError(t, err)
	require.Equal(t, m, got)
	require.Equal(t, id, gotID)
	require.EqualValues(t, 7, got.Rows())
	require.Equal(t, id+"  manifest.json\nab  x\n", got.SumLines(id))

	// The check is what docs/format.md says a shell can do.
	path := filepath.Join(t.TempDir(), Name)
	require.NoError(t, os.WriteFile(path, data, 0o600))
	out, err := exec.Command("sh", "-c", "head -n -2 "+path+" | sha256sum; sha256sum "+path).Output()
	require.NoError(t, err)
	sums := strings.Fields(string(out))
	require.Contains(t, string(data), `"sha256_of_the_lines_above": "`+sums[0]+`"`)
	require.Equal(t, id, sums[2])

	for i := range data { // no byte may change
		bad := append([]byte{}, data...)
		bad[i] ^= 1
		_, _, err := Decode(bad)
		require.True(t, fault.HasCode(err, "manifest-damaged"), "byte %d, %q: %v", i, data[i], err)
	}
	_, _, err = Decode(data[:len(data)-1])
	require.Error(t, err)
	m.Format = Version + 1
	data, _, err = m.Encode()
	require.NoError(t, err)
	_, _, err = Decode(data)
	require.True(t, fault.HasCode(err, "format-too-new"))
	require.Contains(t, fault.Of(err).Do, "restore it by hand")
}
