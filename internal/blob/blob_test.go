package blob

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/engine"
)

func TestFileReadsBackInEveryCompression(t *testing.T) {
	text := make([]byte, 5*chunk+77) // several chunks, the last one partial
	r := rand.New(rand.NewPCG(1, 2))
	for i := range text {
		text[i] = "abcdefgh\n"[r.IntN(9)]
	}
	for _, c := range []Compression{Zstd, Gzip, None} {
		path := filepath.Join(t.TempDir(), "deep", "part"+c.Ending())
		w, err := Create(path, c, nil)
		require.NoError(t, err)
		for at := 0; at < len(text); {
			n := min(len(text)-at, 1+r.IntN(300000))
			_, err := w.Write(text[at : at+n])
			require.NoError(t, err)
			at += n
		}
		info, err := w.Close()
		require.NoError(t, err)
		sum, size, err := Digest(path)
		require.NoError(t, err)
		require.Equal(t, Info{Raw: int64(len(text)), Stored: size, SHA256: sum}, info)

		src, err := Open(path, c)
		require.NoError(t, err)
		got, err := io.ReadAll(src)
		require.NoError(t, err)
		require.True(t, bytes.Equal(text, got), c)
		again, err := src.Sum()
		require.NoError(t, err)
		require.Equal(t, sum, again)
		require.NoError(t, src.Close())

		out, err := exec.Command("sh", "-c", c.Unpack()+" "+engine.ShellQuote(path)).Output()
		require.NoError(t, err)
		require.True(t, bytes.Equal(text, out), "the stock %s reads it too", c)
	}
}

func TestFileReportsWhatTheDiskSays(t *testing.T) {
	refusal := errors.New("no more")
	w, err := Create(filepath.Join(t.TempDir(), "x"), None, func(int) error { return refusal })
	require.NoError(t, err)
	for err == nil {
		_, err = w.Write(make([]byte, chunk))
	}
	require.ErrorIs(t, err, refusal)
	_, err = w.Close()
	require.ErrorIs(t, err, refusal)

	if _, err := os.Stat("/dev/full"); err == nil {
		f, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
		require.NoError(t, err)
		w, err := Create(filepath.Join(t.TempDir(), "y"), None, nil)
		require.NoError(t, err)
		w.f.Close()
		w.f = f
		_, _ = w.Write([]byte("text"))
		_, err = w.Close()
		require.ErrorContains(t, err, "no space left")
	}
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
