package restore

import (
	"context"
	"io"
	"path/filepath"
	"slices"
	"sort"
	"sync/atomic"

	"grainkeep/internal/blob"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
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
	f, err := blob.Open(filepath.Join(l.d.Path, path), blob.Compression(l.m.Compression))
	if err != nil {
		return 0, l.fileTrouble(path, err)
	}
	defer f.Close()
	text := blob.NewAhead(&metered{f, l.meter})
	defer text.Close()
	rows, err := s.Load(ctx, text, func(n int64) { l.meter.Rows.Add(n) })
	if err != nil {
		if ctx.Err() != nil {
			return 0, context.Cause(ctx)
		}
		return 0, l.loadTrouble(path, err)
	}
	text.Close()
	return rows, l.checkSum(path, f)
}

// loadTrouble tells rows that are damaged from rows that the server refuses.
func (l *loader) loadTrouble(path string, cause error) error {
	err := l.fileTrouble(path, cause)
	if Damaged(err) || fault.HasCode(err, engine.Trouble) || fault.HasCode(err, engine.RightsMissing) {
		return err
	}
	return fault.New("restore-failed", err, "rows could not be loaded")
}

type metered struct {
	io.Reader
	meter *event.Meter
}

func (m *metered) Read(p []byte) (int, error) {
	n, err := m.Reader.Read(p)
	m.meter.Bytes.Add(int64(n))
	return n, err
}
