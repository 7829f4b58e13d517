package stream

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestInParallelDoesEachOnceAndStopsAtAFailure(t *testing.T) {
	list := make([]int, 1000)
	for i := range list {
		list[i] = i
	}
	var sum, workers atomic.Int64
	take := func(fail int) func(context.Context, func() (int, bool)) error {
		return func(ctx context.Context, next func() (int, bool)) error {
			workers.Add(1)
			for n, ok := next(); ok; n, ok = next() {
				if n == fail {
					return errors.New("that one")
				}
				sum.Add(int64(n))
			}
			return nil
		}
	}
	require.NoError(t, InParallel(context.Background(), 7, list, take(-1)))
	require.EqualValues(t, 499500, sum.Load())
	require.EqualValues(t, 7, workers.Load())
	require.EqualError(t, InParallel(context.Background(), 3, list, take(500)), "that one")
	ctx, cancel := context.WithCancelCause(context.Background())
	cancel(errors.New("enough"))
	require.EqualError(t, InParallel(ctx, 3, list, take(-1)), "enough")
	require.NoError(t, InParallel(context.Background(), 3, nil, take(-1)), "nothing to do")
}

// TestADamagedFileIsNeverReadAsText: whatever byte is damaged, either reading
// fails or the digest differs.
func TestADamagedFileIsNeverReadAsText(t *testing.T) {
	text := strings.Repeat("Tern & Skerry\n", 3000)
	for _, c := range []Compression{Zstd, Gzip, None} {
		path := filepath.Join(t.TempDir(), "x")
		w, err := Create(path, c, nil)
		require.NoError(t, err)
		_, err = w.Write([]byte(text))
		require.NoError(t, err)
		info, err := w.Close()
		require.NoError(t, err)
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		for i := 0; i < len(data); i += 1 + len(data)/60 {
			bad := append([]byte{}, data...)
			bad[i] ^= 0x10
			require.NoError(t, os.WriteFile(path, bad, 0o600))
			src, err := Open(path, c)
			if err != nil {
				continue
			}
			_, err = io.ReadAll(src)
			sum, _ := src.Sum()
			require.True(t, err != nil || sum != info.SHA256, "%s, byte %d", c, i)
			require.NoError(t, src.Close())
		}
	}
}
