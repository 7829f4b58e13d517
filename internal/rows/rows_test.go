package rows

import (
	"bytes"
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
)

func TestFingerprint(t *testing.T) {
	rows := [][]byte{[]byte("1\ta"), []byte("2\tb"), []byte(""), bytes.Repeat([]byte("long"), 1<<16)}
	sum := func(order []int, piece int) string {
		c := &Counter{}
		for _, i := range order {
			p := rows[i]
			for len(p) > piece {
				require.NoError(t, c.Row(p[:piece], true))
				p = p[piece:]
			}
			require.NoError(t, c.Row(p, false))
		}
		return c.Sum.String()
	}
	whole := sum([]int{0, 1, 2, 3}, 1<<30)
	require.Equal(t, whole, sum([]int{3, 1, 0, 2}, 1<<30), "the order of rows does not count")
	require.Equal(t, whole, sum([]int{0, 1, 2, 3}, 1000), "nor that a row came in pieces")
	require.NotEqual(t, whole, sum([]int{0, 1, 3}, 1<<30), "an empty row counts")
	require.NotEqual(t, sum([]int{0}, 9), sum([]int{0, 0, 0}, 9), "a doubled row counts")
	// The algorithm is part of the format: see docs/format.md.
	require.Equal(t, "efd496035c9eceae6f3fe4489f99fc4b", sum([]int{0, 1, 2}, 9))
}

func TestTableFraming(t *testing.T) {
	var b bytes.Buffer
	w, err := NewTable(&b, engine.Framing{Head: "INSERT\n", RowEnd: ",\n", GroupEnd: ";\n", Tail: "end\n", Group: 4})
	require.NoError(t, err)
	for _, r := range []string{"aa", "bb", "cc"} {
		require.NoError(t, w.Row([]byte(r[:1]), true))
		require.NoError(t, w.Row([]byte(r[1:]), false))
	}
	require.NoError(t, w.End())
	require.Equal(t, "INSERT\naa,\nbb;\nINSERT\ncc;\nend\n", b.String())

	b.Reset()
	w, err = NewTable(&b, engine.Framing{Head: "COPY\n", Tail: "\\.\n", Always: true})
	require.NoError(t, err)
	require.NoError(t, w.End())
	require.Equal(t, "COPY\n\\.\n", b.String(), "an empty table")
}

// wide is a snapshot of one table whose size on the server's disk says little about
// its text.
type wide struct {
	engine.Snapshot
	t    engine.Table
	seen func(row int)
}

func (w *wide) Catalog() *engine.Catalog                      { return &engine.Catalog{Tables: []engine.Table{w.t}} }
func (w *wide) Width() int                                    { return 1 }
func (w *wide) Reader(context.Context) (engine.Reader, error) { return w, nil }
func (w *wide) Close() error                                  { return nil }
func (w *wide) Witness(_ context.Context, _ *engine.Table, sample int64) (engine.Witness, error) {
	return engine.Witness{Sample: sample}, nil
}
func (w *wide) Read(_ context.Context, _ *engine.Table, _ engine.Part, to engine.Rows) error {
	for i := range 1000 {
		if err := to.Row(make([]byte, 10_000), false); err != nil {
			return err
		}
		w.seen(i)
	}
	return nil
}

// silent is a server that says nothing any more after some rows.
type silent struct{ wide }

func (s *silent) Reader(context.Context) (engine.Reader, error) { return s, nil }
func (s *silent) Read(ctx context.Context, _ *engine.Table, _ engine.Part, to engine.Rows) error {
	for range 10 {
		if err := to.Row([]byte("x"), false); err != nil {
			return err
		}
	}
	<-ctx.Done()
	return context.Cause(ctx)
}

func TestNobodyWaitsForASilentServer(t *testing.T) {
	s := &silent{wide{t: engine.Table{ID: "t"}}}
	_, err := Scan(context.Background(), Scanning{Snapshot: s, Catalog: s.Catalog(), Meter: &event.Meter{},
		Samples: func(int) int64 { return 0 }, Silence: 20 * time.Millisecond})
	require.True(t, fault.HasCode(err, "server-silent"))
	err = Within(context.Background(), time.Millisecond, func(ctx context.Context) error {
		<-ctx.Done()
		return ctx.Err()
	})
	require.True(t, fault.HasCode(err, "server-silent"))
	require.NoError(t, Within(context.Background(), time.Minute, func(context.Context) error { return nil }))
}

// TestWhatIsExpectedIsLearnt: the time left comes from it.
func TestWhatIsExpectedIsLearnt(t *testing.T) {
	for _, rows := range []int64{1000, 1100, 900, 0} {
		m := &event.Meter{}
		w := &wide{t: engine.Table{ID: "t", Bytes: 1 << 20, Rows: rows}}
		w.seen = func(row int) {
			if row == 300 && rows > 0 {
				require.InEpsilon(t, rows*10_000, m.Expected.Load(), 0.01)
			}
		}
		found, err := Scan(context.Background(), Scanning{Snapshot: w, Catalog: w.Catalog(), Meter: m,
			Samples: func(int) int64 { return 7 }})
		require.NoError(t, err)
		require.EqualValues(t, 1000, found[0].Rows)
		require.EqualValues(t, 7, found[0].Witness.Sample)
		require.EqualValues(t, 10_000_000, m.Expected.Load(), "in the end it is what it was")
		require.EqualValues(t, 10_000_000, m.Bytes.Load())
	}
}
