package storetest

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/store"
)

// Contract holds a store that is empty against what every store promises. Another one opens the same store anew, as
// another process would.
func Contract(t *testing.T, s store.Store, another func() store.Store) {
	t.Run("files", func(t *testing.T) { files(t, s) })
	t.Run("listing", func(t *testing.T) { listing(t, s) })
	t.Run("large", func(t *testing.T) { large(t, s) })
	t.Run("names", func(t *testing.T) { names(t, s) })
	t.Run("one of many", func(t *testing.T) { oneOfMany(t, another) })
	t.Run("leases", func(t *testing.T) { leases(t, s, another()) })
}

func read(t *testing.T, s store.Store, name string, offset, length int64) string {
	t.Helper()
	r, err := s.Open(t.Context(), name, offset, length)
	require.NoError(t, err)
	data, err := io.ReadAll(r)
	require.NoError(t, err)
	require.NoError(t, r.Close())
	return string(data)
}

// files: they are there once they are committed, whole, and never in the place of another.
func files(t *testing.T, s store.Store) {
	ctx := t.Context()
	w, err := s.Create(ctx, "files/a/one")
	require.NoError(t, err)
	_, err = w.Write([]byte("0123456789"))
	require.NoError(t, err)
	_, err = s.Stat(ctx, "files/a/one")
	require.ErrorIs(t, err, fs.ErrNotExist, "not yet")
	require.NoError(t, w.Commit())
	e, err := s.Stat(ctx, "files/a/one")
	require.NoError(t, err)
	require.Equal(t, store.Entry{Name: "files/a/one", Bytes: 10, Time: e.Time}, e)
	require.Equal(t, "0123456789", read(t, s, "files/a/one", 0, -1))
	require.Equal(t, "345", read(t, s, "files/a/one", 3, 3))
	require.Equal(t, "89", read(t, s, "files/a/one", 8, 100))
	require.Empty(t, read(t, s, "files/a/one", 10, -1))

	err = store.WriteNew(ctx, s, "files/a/one", []byte("other"))
	require.ErrorIs(t, err, fs.ErrExist)
	require.Equal(t, "0123456789", read(t, s, "files/a/one", 0, -1))
	require.NoError(t, store.WriteNew(ctx, s, "files/a/empty", nil))
	require.Empty(t, read(t, s, "files/a/empty", 0, -1))

	w, err = s.Create(ctx, "files/a/never")
	require.NoError(t, err)
	_, err = w.Write(bytes.Repeat([]byte("x"), 3<<20))
	require.NoError(t, err)
	require.NoError(t, w.Abort())
	_, err = s.Stat(ctx, "files/a/never")
	require.ErrorIs(t, err, fs.ErrNotExist)

	require.NoError(t, s.(store.Replacer).Replace(ctx, "files/a/kept", []byte("old")))
	require.NoError(t, s.(store.Replacer).Replace(ctx, "files/a/kept", []byte("new")))
	require.Equal(t, "new", read(t, s, "files/a/kept", 0, -1))

	require.NoError(t, s.Remove(ctx, "files/a/one"))
	_, err = s.Open(ctx, "files/a/one", 0, -1)
	require.ErrorIs(t, err, fs.ErrNotExist)
	require.Error(t, s.Remove(ctx, "files/a"), "something is in it")
}

// listing: sorted, whole, with folders; a folder of thousands too.
func listing(t *testing.T, s store.Store) {
	ctx := t.Context()
	for _, name := range []string{"list/b", "list/a/x", "list/a/y", "list/a.b", "list/c/d/e"} {
		require.NoError(t, store.WriteNew(ctx, s, name, []byte(name)))
	}
	var found []string
	visit := func(e store.Entry) error {
		name := e.Name
		if e.Folder {
			name += "/"
		} else {
			require.EqualValues(t, len(e.Name), e.Bytes)
		}
		found = append(found, name)
		return nil
	}
	require.NoError(t, s.List(ctx, "list", visit))
	require.ElementsMatch(t, []string{"list/a/", "list/a.b", "list/b", "list/c/"}, found)
	found = nil
	require.NoError(t, s.List(ctx, "list/a", visit))
	require.Equal(t, []string{"list/a/x", "list/a/y"}, found)
	e, err := s.Stat(ctx, "list/c")
	require.NoError(t, err)
	require.True(t, e.Folder)
	require.ErrorIs(t, s.List(ctx, "list/none", visit), fs.ErrNotExist)
	stop := errors.New("enough")
	require.ErrorIs(t, s.List(ctx, "list", func(store.Entry) error { return stop }), stop)

	p, ok := s.(store.Peeker)
	if !ok {
		return
	}
	seen := map[string]int64{}
	require.NoError(t, p.Peek(ctx, "list", "x", func(base string, e store.Entry) error {
		seen[base] = e.Bytes
		return nil
	}))
	require.Equal(t, map[string]int64{"a": 8}, seen, "the folders that have it")
}

// large: what is larger than a part, in pieces of every size.
func large(t *testing.T, s store.Store) {
	ctx := t.Context()
	r := rand.New(rand.NewPCG(1, 2))
	data := make([]byte, 21<<20+17)
	for i := range data {
		data[i] = byte(r.Uint32())
	}
	w, err := s.Create(ctx, "large/one")
	require.NoError(t, err)
	for rest := data; len(rest) > 0; {
		n := min(len(rest), r.IntN(5<<20))
		got, err := w.Write(rest[:n])
		require.NoError(t, err)
		require.Equal(t, n, got)
		rest = rest[n:]
	}
	require.NoError(t, w.Commit())
	back := read(t, s, "large/one", 0, -1)
	require.True(t, bytes.Equal(data, []byte(back)))
	require.Equal(t, string(data[9<<20:9<<20+1000]), read(t, s, "large/one", 9<<20, 1000))
	require.ErrorIs(t, store.WriteNew(ctx, s, "large/one", data[:9<<20]), fs.ErrExist)
}

// names: those of our alphabet, and no others.
func names(t *testing.T, s store.Store) {
	ctx := t.Context()
	for _, name := range []string{"names/+server", "names/odd%20name", "names/a~b.c_d-e", "names/" + strings.Repeat("n", 200)} {
		require.NoError(t, store.WriteNew(ctx, s, name, []byte(name)))
		require.Equal(t, name, read(t, s, name, 0, -1))
	}
	for _, name := range []string{"../up", "names/../up", "/abs", "a//b", "with space", "names/", "line\nbreak"} {
		_, err := s.Create(ctx, name)
		require.Error(t, err, name)
		_, err = s.Open(ctx, name, 0, -1)
		require.Error(t, err, name)
		require.Error(t, s.Remove(ctx, name), name)
	}
}

// oneOfMany: of many who make the same file at the same time, one does.
func oneOfMany(t *testing.T, another func() store.Store) {
	var mu sync.Mutex
	var made []string
	var work sync.WaitGroup
	for n := range 8 {
		s, own := another(), strings.Repeat(string(rune('a'+n)), 100)
		work.Go(func() {
			err := store.WriteNew(context.Background(), s, "many/one", []byte(own))
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				made = append(made, own)
			} else if !errors.Is(err, fs.ErrExist) {
				t.Error(err)
			}
		})
	}
	work.Wait()
	require.Len(t, made, 1)
	require.Equal(t, made[0], read(t, another(), "many/one", 0, -1))
}

// leases: one holder at a time, also of many who try at once.
func leases(t *testing.T, s, other store.Store) {
	ctx := t.Context()
	l, err := s.(store.Leaser).Lease(ctx, ".work/a.lease")
	require.NoError(t, err)
	require.NoError(t, l.Held())
	var held *store.HeldError
	_, err = other.(store.Leaser).Lease(ctx, ".work/a.lease")
	require.ErrorAs(t, err, &held)
	require.NotZero(t, held.Holder.PID)
	require.True(t, held.Here)
	require.NoError(t, l.Release())
	l, err = other.(store.Leaser).Lease(ctx, ".work/a.lease")
	require.NoError(t, err, "it was given up")
	require.NoError(t, s.Remove(ctx, ".work/a.lease"))
	require.Error(t, l.Held(), "somebody removed it")
	require.NoError(t, l.Release())

	var mu sync.Mutex
	var got []store.Lease
	var work sync.WaitGroup
	for n := range 6 {
		of := s
		if n%2 == 0 {
			of = other
		}
		work.Go(func() {
			l, err := of.(store.Leaser).Lease(ctx, ".work/b.lease")
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				got = append(got, l)
			} else if !errors.As(err, new(*store.HeldError)) {
				t.Error(err)
			}
		})
	}
	work.Wait()
	require.Len(t, got, 1)
	require.NoError(t, got[0].Release())
}
