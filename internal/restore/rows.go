package restore

import (
	"context"
	"io"
	"slices"
	"sort"
	"sync/atomic"

	"grainkeep/internal/blob"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/payload"
	"grainkeep/internal/rows"
)

// rows loads all tables, the largest first, in as many sessions as are useful. The
// parts of one table are loaded side by side too.
func (l *loader) rows(ctx context.Context) error {
	type piece struct {
		table int
		path  string
	}
	order := slices.Clone(l.tables)
	sort.SliceStable(order, func(a, b int) bool { return order[a].Bytes > order[b].Bytes })
	var pieces []piece
	var bytes int64
	for i, t := range order {
		for _, path := range t.Files {
			pieces = append(pieces, piece{i, path})
		}
		bytes += t.Bytes
		l.out.Rows += t.Rows
	}
	l.out.Tables = len(order)
	loaded := make([]atomic.Int64, len(order))
	l.meter.Begin("restoring "+l.m.Database, len(pieces), bytes)
	width, _ := l.t.Width()
	err := rows.InParallel(ctx, width, pieces, func(ctx context.Context, next func() (piece, bool)) error {
		s, err := l.t.Session(ctx)
		if err != nil {
			return err
		}
		defer s.Close()
		for p, ok := next(); ok; p, ok = next() {
			n, err := l.file(ctx, s, p.path)
			if err != nil {
				return err
			}
			loaded[p.table].Add(n)
			l.meter.Done.Add(1)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for i, t := range order {
		if n := loaded[i].Load(); n != t.Rows {
			return fault.New("rows-missing", nil, "the target took %d rows of %s, and the dump has %d", n, t.ID, t.Rows)
		}
	}
	return nil
}

func (l *loader) file(ctx context.Context, s engine.Session, path string) (int64, error) {
	f, err := l.files.Open(ctx, path)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	in := &metered{Reader: f, meter: l.meter}
	text := blob.NewAhead(in)
	defer text.Close()
	n, err := s.Load(ctx, text, func(n int64) { l.meter.Rows.Add(n) })
	text.Close()
	switch {
	case ctx.Err() != nil:
		return 0, context.Cause(ctx)
	case in.err != nil: // the dump could not be read: what the server says of that does not count
		return 0, l.files.Trouble(ctx, path, in.err)
	case err != nil:
		return 0, l.loadTrouble(ctx, path, err)
	}
	return n, l.files.CheckSum(ctx, path, f)
}

// loadTrouble tells rows that are damaged from rows that the server refuses.
func (l *loader) loadTrouble(ctx context.Context, path string, cause error) error {
	err := l.files.Trouble(ctx, path, cause)
	if payload.Damaged(err) || fault.HasCode(err, engine.Trouble) || fault.HasCode(err, engine.RightsMissing) {
		return err
	}
	return fault.New("restore-failed", err, "rows could not be loaded")
}

// metered counts the text that passes, and remembers why there was no more of it.
type metered struct {
	io.Reader
	meter *event.Meter
	err   error
}

func (m *metered) Read(p []byte) (int, error) {
	n, err := m.Reader.Read(p)
	m.meter.Bytes.Add(int64(n))
	if err != nil && err != io.EOF {
		m.err = err
	}
	return n, err
}
