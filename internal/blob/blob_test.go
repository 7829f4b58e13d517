package blob

import (
	"bytes"
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/engine"
	"grainkeep/internal/store"
	"grainkeep/internal/store/folder"
	"grainkeep/internal/store/storetest"
)

func TestFileReadsBackInEveryCompression(t *testing.T) {
	text := make([]byte, 5*chunk+77) // several chunks, the last one partial
	r := rand.New(rand.NewPCG(1, 2))
	for i := range text {
		text[i] = "abcdefgh\n"[r.IntN(9)]
	}
	for _, c := range []Compression{Zstd, Gzip, None} {
		st, err := folder.Open(t.TempDir())
		require.NoError(t, err)
		name := "deep/part" + c.Ending()
		set := NewSet(st, nil)
		w, err := set.Create(context.Background(), name, c)
		require.NoError(t, err)
		for at := 0; at < len(text); {
			n := min(len(text)-at, 1+r.IntN(300000))
			_, err := w.Write(text[at : at+n])
			require.NoError(t, err)
			at += n
		}
		info, err := w.Close(nil)
		require.NoError(t, err)
		require.Equal(t, []Info{info}, set.Files())
		open := func() *Source {
			r, err := st.Open(context.Background(), name, 0, -1)
			require.NoError(t, err)
			src, err := Open(r, c, Bounds{Stored: info.Stored, Raw: info.Raw})
			require.NoError(t, err)
			return src
		}
		r, err := st.Open(context.Background(), name, 0, -1)
		require.NoError(t, err)
		sum, size, err := Digest(r, 1<<40, func(int64) bool { return true })
		require.NoError(t, err)
		require.Equal(t, Info{Path: name, Raw: int64(len(text)), Stored: size, SHA256: sum}, info)
		src := open()
		got, err := io.ReadAll(src)
		require.NoError(t, err)
		require.True(t, bytes.Equal(text, got), c)
		require.Zero(t, src.Short())
		again, err := src.Sum()
		require.NoError(t, err)
		require.Equal(t, sum, again)
		require.NoError(t, src.Close())
		out, err := exec.Command("sh", "-c", c.Unpack()+" "+engine.ShellQuote(st.Where(name))).Output()
		require.NoError(t, err)
		require.True(t, bytes.Equal(text, out), "the stock %s reads it too", c)

		info.Raw -= 100 // it says less than it holds
		_, err = io.ReadAll(open())
		require.ErrorAs(t, err, new(*ExcessError))
		info.Raw += 200
		src = open()
		_, err = io.ReadAll(src)
		require.NoError(t, err)
		require.EqualValues(t, 100, src.Short())
	}
}

func TestFileReportsWhatTheStoreSays(t *testing.T) {
	disk, err := folder.Open(t.TempDir())
	require.NoError(t, err)
	st := storetest.New(disk)
	refusal := errors.New("no more")
	set := NewSet(st, func(int) error { return refusal })
	w, err := set.Create(context.Background(), "x", None)
	require.NoError(t, err)
	for err == nil {
		_, err = w.Write(make([]byte, chunk))
	}
	require.ErrorIs(t, err, refusal)
	_, err = w.Close(errors.New("the writer's own"))
	require.ErrorIs(t, err, refusal, "the guard's word is the cause")

	for _, kind := range []string{"create", "write", "commit"} {
		st.FailAt(kind, 1)
		set := NewSet(st, nil)
		require.ErrorIs(t, set.Write(context.Background(), "y", None, "text"), storetest.ErrInjected, kind)
		require.Empty(t, set.Files())
	}
	st.FailAt("", 0)
	mine := errors.New("the reader was cut off")
	w, err = NewSet(st, nil).Create(context.Background(), "z", None)
	require.NoError(t, err)
	_, err = w.Close(mine)
	require.ErrorIs(t, err, mine)
	require.NoError(t, st.List(context.Background(), "", func(e store.Entry) error {
		t.Errorf("%s is left", e.Name)
		return nil
	}))
}

// TestADamagedFileIsNeverReadAsText: whatever byte is damaged, either reading
// fails or the digest differs.
func TestADamagedFileIsNeverReadAsText(t *testing.T) {
	text := strings.Repeat("Tern & Skerry\n", 3000)
	for _, c := range []Compression{Zstd, Gzip, None} {
		st, err := folder.Open(t.TempDir())
		require.NoError(t, err)
		set := NewSet(st, nil)
		require.NoError(t, set.Write(context.Background(), "x", c, text))
		info := set.Files()[0]
		data, err := os.ReadFile(st.Where("x"))
		require.NoError(t, err)
		for i := 0; i < len(data); i += 1 + len(data)/60 {
			bad := append([]byte{}, data...)
			bad[i] ^= 0x10
			src, err := Open(io.NopCloser(bytes.NewReader(bad)), c, Bounds{Stored: info.Stored, Raw: info.Raw})
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
