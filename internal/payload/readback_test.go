package payload

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/engine"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
)

// keyedTable is rows by their keys, as a server has them.
type keyedTable map[string]string

func (k keyedTable) Read(context.Context, *engine.Table, engine.Part, engine.Rows) error { return nil }
func (k keyedTable) Witness(context.Context, *engine.Table, int64) (w engine.Witness, err error) {
	return w, nil
}
func (k keyedTable) Close() error { return nil }
func (k keyedTable) ReadKeys(_ context.Context, _ *engine.Table, keys []string, to engine.Rows) error {
	for _, key := range keys {
		if row, there := k[key]; there {
			if err := to.Row([]byte(row), false); err != nil {
				return err
			}
		}
	}
	return nil
}

func (k keyedTable) CountKeys(_ context.Context, _ *engine.Table, keys []string) (n int64, err error) {
	for _, key := range keys {
		if _, there := k[key]; there {
			n++
		}
	}
	return n, nil
}

func (k keyedTable) CountSince(context.Context, *engine.Table, engine.Position) (all, since int64, err error) {
	return int64(len(k)), -1, nil
}

// TestWhatTheLogToldIsReadBack: each way in which rows can be others than the log told is noticed; the last that it told
// of a row counts.
func TestWhatTheLogToldIsReadBack(t *testing.T) {
	tell := func() *images {
		x := newImages()
		x.take([]byte("1"), []byte("one"), true)
		x.take([]byte("2"), []byte("old"), true)
		x.take([]byte("2"), []byte("two"), true)
		x.take([]byte("3"), nil, true) // not all of it was told
		x.take([]byte("4"), []byte("four"), true)
		x.take([]byte("4"), nil, false)
		return x
	}
	for name, c := range map[string]struct {
		rows keyedTable
		why  string
	}{
		"as told":          {keyedTable{"1": "one", "2": "two", "3": "x", "9": "not told of"}, ""},
		"a lost insert":    {keyedTable{"2": "two", "3": "x"}, "of 2 rows that were written, 1 are there"},
		"another value":    {keyedTable{"1": "one", "2": "old", "3": "x"}, "other values"},
		"one that is gone": {keyedTable{"1": "one", "2": "two"}, "of 1 rows that were changed, 0 are there"},
		"a lost delete":    {keyedTable{"1": "one", "2": "two", "3": "x", "4": "four"}, "of 1 rows that were removed, 1 are there"},
	} {
		why, err := tell().differ(context.Background(), c.rows, nil)
		require.NoError(t, err)
		require.True(t, strings.Contains(why, c.why) && (c.why != "" || why == ""), "%s: %q", name, why)
	}
}

// TestReadBackIsBounded: of more rows than the bound a sample is held, and of each of those the last that was told.
func TestReadBackIsBounded(t *testing.T) {
	x, there := newImages(), keyedTable{}
	l := &logged{images: map[string]*images{"t": x}}
	for n := range 3 * mostReadBack {
		for _, row := range []string{"was", "is"} {
			key := fmt.Sprint(n)
			there[key] = row
			l.Image(&engine.Table{ID: "t"}, []byte(key), []byte(row), true)
		}
	}
	require.LessOrEqual(t, len(x.of), mostReadBack)
	require.Greater(t, len(x.of), mostReadBack/4)
	require.Equal(t, len(x.of), l.noted)
	why, err := x.differ(context.Background(), there, nil)
	require.NoError(t, err)
	require.Empty(t, why)
	for key := range x.of {
		there[key] = "was"
		break
	}
	why, err = x.differ(context.Background(), there, nil)
	require.NoError(t, err)
	require.Contains(t, why, "other values")
}

// TestWhatSpeaksAgainstTheLog: a table that the server says was written to since the base, and of which the log is silent, is
// looked at whatever that costs; and all are where the log itself is in doubt.
func TestWhatSpeaksAgainstTheLog(t *testing.T) {
	base := time.Date(2026, 3, 14, 9, 30, 0, 500, time.UTC)
	l := &logged{s: &SQL{Base: []*keep.Dump{{Manifest: &manifest.Manifest{Moment: base}}}}, moment: base.Add(time.Hour)}
	touched := &told{Touched: engine.Touched{Updated: 1}}
	for after, want := range map[time.Duration]bool{-time.Minute: false, 0: false, time.Second: true, time.Hour: true, 2 * time.Hour: false} {
		table := &engine.Table{Written: base.Truncate(time.Second).Add(after)}
		require.Equal(t, want, l.doubt(table, &told{}) != "", after)
		require.Empty(t, l.doubt(table, touched), "the log tells of it")
	}
	require.Empty(t, l.doubt(&engine.Table{}, &told{}), "the server does not remember")
	l.Audit("it was started again")
	require.Equal(t, "it was started again", l.doubt(&engine.Table{}, touched))
}
