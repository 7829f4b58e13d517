package blob

import (
	"bytes"
	"io"
	"testing"

	"github.com/stretchr/testify/require"
)

// FuzzSource reads files of others: there is never more text than the bounds say.
func FuzzSource(f *testing.F) {
	for i, c := range []Compression{None, Zstd, Gzip} {
		data, err := c.encode(nil, bytes.Repeat([]byte("Tern & Skerry "), 99))
		require.NoError(f, err)
		f.Add(data, byte(i), int64(1386))
		f.Add(data, byte(i), int64(5))
	}
	f.Fuzz(func(t *testing.T, data []byte, kind byte, raw int64) {
		c := []Compression{None, Zstd, Gzip}[kind%3]
		raw = min(max(raw, 0), 1<<20)
		s, err := Open(io.NopCloser(bytes.NewReader(data)), c, Bounds{Stored: int64(len(data)), Raw: raw})
		if err != nil {
			return
		}
		text, err := io.ReadAll(s)
		require.LessOrEqual(t, int64(len(text)), raw)
		if err == nil {
			require.Equal(t, raw-int64(len(text)), s.Short())
		}
		require.NoError(t, s.Close())
	})
}
