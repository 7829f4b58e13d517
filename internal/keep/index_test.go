package keep

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
)

// shelf is an index in memory.
type shelf struct {
	data   map[string][]byte
	writes int
}

func (s *shelf) Read(keep string) ([]byte, error) {
	if d, ok := s.data[keep]; ok {
		return d, nil
	}
	return nil, os.ErrNotExist
}

func (s *shelf) Write(keep string, data []byte) error {
	s.writes++
	s.data[keep] = data
	return nil
}

// listed says what a listing shows.
func listed(t *testing.T, k *Keep) string {
	t.Helper()
	dumps, err := k.Dumps(context.Background())
	require.NoError(t, err)
	a, err := k.Audit(context.Background(), dumps)
	require.NoError(t, err)
	text := ""
	for _, d := range dumps {
		if d.Err != nil {
			text += "unreadable " + filepath.Base(d.Path()) + "\n"
			continue
		}
		m := *d.Manifest
		text += fmt.Sprintf("%s %s %+v %d %v %d %s %v %v\n", d.ID, d.dir, m.Run, m.Rows(), m.Partial(), m.StoredBytes,
			m.Moment, m.Warnings, d.Proofs)
	}
	return text + fmt.Sprintf("%d missing, %d unknown", len(a.Missing), len(a.Unknown))
}

// TestAnIndexChangesNothing: with and without one a listing shows the same, whatever happens to the keep; and a
// dump that was listed is read whole from the keep.
func TestAnIndexChangesNothing(t *testing.T) {
	ctx := context.Background()
	place := t.TempDir()
	k, err := Create(ctx, place, false)
	require.NoError(t, err)
	s := &shelf{data: map[string][]byte{}}
	both := func() *Keep {
		t.Helper()
		plain, err := Open(ctx, place)
		require.NoError(t, err)
		for range 2 { // once it fills the index, once it lives on it
			fast, err := Open(ctx, place)
			require.NoError(t, err)
			fast.Remember(s)
			require.Equal(t, listed(t, plain), listed(t, fast))
			plain = fast
		}
		return plain
	}
	var dumps []*Dump
	for n := range 3 {
		run := fmt.Sprintf("abcd%d", n)
		session, err := k.Begin(ctx, run)
		require.NoError(t, err)
		draft, err := session.Draft(ctx, small(k, run, ""), phrase.DefaultFolderName)
		require.NoError(t, err)
		d, err := draft.Place(ctx)
		require.NoError(t, err)
		require.NoError(t, session.Close(ctx))
		require.NoError(t, k.RecordRun(ctx, run, "nightly", []*Dump{d}, nil))
		dumps = append(dumps, d)
		both()
	}
	writes := s.writes
	fast := both()
	require.Equal(t, writes, s.writes, "what is known is not written again")
	require.NoError(t, (&Dump{Keep: k}).Record(ctx, Proof{Format: 1, Dump: dumps[0].ID, At: time.Now(), Proven: true}))
	both()
	require.NoError(t, (&Dump{Keep: k}).Record(ctx, Proof{Format: 1, Dump: dumps[0].ID, At: time.Now()}))
	both()
	list, err := fast.Dumps(ctx)
	require.NoError(t, err)
	require.True(t, list[0].Manifest.IsBrief())
	require.Panics(t, func() { list[0].Manifest.Tables() })
	require.NoError(t, list[0].Whole(ctx))
	require.Equal(t, dumps[0].Manifest.Files, list[0].Manifest.Files)

	require.NoError(t, k.Remove(ctx, dumps[1], "old"))
	both()
	path := filepath.Join(dumps[2].Path(), "manifest.json")
	require.NoError(t, os.WriteFile(path, []byte("{}"), 0o600))
	fast = both()
	list, err = fast.Dumps(ctx)
	require.NoError(t, err)
	require.Error(t, list[len(list)-1].Readable())
	require.NoError(t, os.RemoveAll(dumps[2].Path()))
	both()
	for _, junk := range [][]byte{nil, []byte("junk"), s.data[k.ID][:len(s.data[k.ID])/2]} {
		s.data[k.ID] = junk
		both()
	}
}

// TestAnIndexForgetsNothingOfAListing: whatever a manifest says of itself is remembered, files, tables and positions
// apart. A field that is new in it and not in the index fails here.
func TestAnIndexForgetsNothingOfAListing(t *testing.T) {
	m := small(&Keep{ID: "abcd1234"}, "abcd", "x")
	m.Base, m.Closes, m.Note, m.Why, m.Alone, m.Run.Narrowed = "base", "full", "note", "why", true, true
	m.Warnings = []manifest.Warning{{Code: "c", Text: "t"}}
	m.Run.Databases = []string{"x"}
	m.Source = manifest.Source{Name: "n", Engine: "e", Where: "w", Product: "p", Version: "v", User: "u"}
	m.Started, m.Finished, m.Run.Started = m.Moment.Add(1), m.Moment.Add(2), m.Moment.Add(3)
	m.Zone, m.Tool, m.Compression, m.RawBytes, m.StoredBytes = "UTC", "tool", "zstd", 7, 8
	m.Signed = &manifest.Signed{At: m.Moment, By: "k"}
	m.Seal = &manifest.Seal{Of: "o", For: []string{"f"}, Partial: true}
	m.Payload = manifest.Payload{Type: manifest.TypeSQL}
	for v, i := reflect.ValueOf(*m), 0; i < v.NumField(); i++ {
		if name := v.Type().Field(i).Name; v.Type().Field(i).IsExported() && name != "From" && name != "To" &&
			name != "Files" {
			require.False(t, v.Field(i).IsZero(), "%s is not set by this test", name)
		}
	}
	m.Brief()
	data, err := packIndex(&indexed{dumps: map[string]*knownDump{"j/d/x": {1, 2, "id", m}}})
	require.NoError(t, err)
	x, err := unpackIndex(data)
	require.NoError(t, err)
	require.Equal(t, m, x.dumps["j/d/x"].manifest)
}

func FuzzIndex(f *testing.F) {
	k := &Keep{ID: "abcd1234"}
	m := small(k, "abcd", "x")
	m.Brief()
	data, err := packIndex(&indexed{map[string]*knownDump{"j/d/x": {1, 2, "id", m}},
		map[string]knownRecord{"r": {Dumps: []Placed{{ID: "a", Path: "j/d"}}}},
		map[string]knownProofs{}})
	if err != nil {
		f.Fatal(err)
	}
	f.Add(data)
	f.Fuzz(func(t *testing.T, data []byte) {
		x, err := unpackIndex(data)
		if err == nil {
			require.NotNil(t, x.proofs)
		}
	})
}
