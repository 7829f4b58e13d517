package restore

import (
	"context"
	"fmt"
	"io"
	"slices"
	"sort"
	"sync/atomic"

	"grainkeep/internal/blob"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
	"grainkeep/internal/mask"
	"grainkeep/internal/payload"
	"grainkeep/internal/rows"
)

// rows loads the files that hold all rows of a table, the largest tables first, in as many sessions as are useful. The
// parts of one table are loaded side by side too.
func (l *loader) rows(ctx context.Context) error {
	type piece struct {
		table int
		path  string
	}
	order := slices.Clone(l.tables)
	sort.SliceStable(order, func(a, b int) bool { return order[a].Bytes > order[b].Bytes })
	whole := make([]payload.Layer, len(order))
	var pieces []piece
	var bytes int64
	for i, t := range order {
		whole[i] = l.layers[t.ID][0]
		for _, path := range whole[i].Table.Files {
			if l.opt.lost.of(path) == "" {
				pieces = append(pieces, piece{i, path})
			}
		}
		bytes += whole[i].Table.Bytes
		l.out.Rows += l.before(t)
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
			n, err := l.file(ctx, s, whole[p.table].Files, order[p.table].ID, p.path)
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
		n, want := loaded[i].Load(), whole[i].Table.Rows
		if l.short(whole[i].Table, n) {
			l.out.Rows += n - want
			continue
		}
		if n != want {
			return missing(n, want, t.ID)
		}
	}
	return nil
}

// before is how many rows a table has at the end of the plan, or, where that stops inside its last dump, before that.
func (l *loader) before(t manifest.Table) int64 {
	if n := len(l.layers[t.ID]); l.stop == 0 || t.Change != manifest.Logged || n < 2 {
		return t.Rows
	}
	return l.parts.Before(t.ID).Rows
}

func missing(n, want int64, table string) error {
	return fault.New("rows-missing", nil, "the target took %d rows of %s, and the dump has %d", n, table, want)
}

// removes says whether rows are removed on the way to the chain's end.
func (l *loader) removes() bool {
	for _, t := range l.tables {
		for _, x := range l.layers[t.ID] {
			if len(x.Table.Gone) > 0 || x.Table.Change == manifest.Logged {
				return true
			}
		}
	}
	return false
}

// changes brings the rows of each table from those of the chain's full to those of its end: what a dump removes goes
// first, then come the rows that it has.
func (l *loader) changes(ctx context.Context) error {
	var changed []manifest.Table
	files := 0
	for _, t := range l.tables {
		n := files
		for _, x := range l.layers[t.ID][1:] {
			files += len(x.Table.Files) + len(x.Table.Gone)
		}
		if files > n {
			changed = append(changed, t)
		}
	}
	if files == 0 {
		return nil
	}
	l.meter.Begin(fmt.Sprintf("restoring %s: what changed", l.m.Database), files, 0)
	width, _ := l.t.Width()
	return rows.InParallel(ctx, width, changed, func(ctx context.Context, next func() (manifest.Table, bool)) error {
		s, err := l.t.Session(ctx)
		if err != nil {
			return err
		}
		defer s.Close()
		for t, ok := next(); ok; t, ok = next() {
			for _, x := range l.layers[t.ID][1:] {
				if err := l.layer(ctx, s, x); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// layer brings a table from one dump to the next.
func (l *loader) layer(ctx context.Context, s engine.Session, x payload.Layer) error {
	t := x.Table
	if t.Change != manifest.Ranges {
		return nil
	}
	var went, got int64
	for _, path := range t.Gone {
		n, err := l.text(ctx, x.Files, path, func(text io.Reader) (int64, error) {
			return l.masked(text, func(m *mask.Set, text io.Reader) io.ReadCloser { return m.Removals(t.ID, text) },
				func(text io.Reader) (int64, error) { return s.Remove(ctx, text) })
		})
		if err != nil {
			return err
		}
		went += n
		l.meter.Done.Add(1)
	}
	if went != t.Counts.Removed {
		return fault.New("rows-missing", nil, "%d rows of %s went, and %d were to go", went, t.ID, t.Counts.Removed)
	}
	for _, path := range t.Files {
		n, err := l.file(ctx, s, x.Files, t.ID, path)
		if err != nil {
			return err
		}
		got += n
		l.meter.Done.Add(1)
	}
	if got != t.Counts.Written {
		return missing(got, t.Counts.Written, t.ID)
	}
	return nil
}

// file loads rows of a table.
func (l *loader) file(ctx context.Context, s engine.Session, of *payload.Reader, table, path string) (int64, error) {
	return l.text(ctx, of, path, func(text io.Reader) (int64, error) {
		return l.masked(text, func(m *mask.Set, text io.Reader) io.ReadCloser { return m.Rows(table, text) },
			func(text io.Reader) (int64, error) { return s.Load(ctx, text, func(n int64) { l.meter.Rows.Add(n) }) })
	})
}

// text gives the text of a file to a function that tells rows, and fails unless all of it is what the manifest says.
func (l *loader) text(ctx context.Context, of *payload.Reader, path string,
	use func(io.Reader) (int64, error)) (int64, error) {
	f, err := of.Open(ctx, path)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	in := &metered{Reader: f, meter: l.meter}
	text := blob.NewAhead(in)
	defer text.Close()
	n, err := use(text)
	text.Close()
	switch {
	case ctx.Err() != nil:
		return 0, context.Cause(ctx)
	case in.err != nil: // the dump could not be read: what the server says of that does not count
		return 0, of.Trouble(ctx, path, in.err)
	case err != nil:
		return 0, loadTrouble(ctx, of, path, err)
	}
	return n, of.CheckSum(ctx, path, f)
}

// loadTrouble tells rows that are damaged from rows that the server refuses.
func loadTrouble(ctx context.Context, of *payload.Reader, path string, cause error) error {
	err := of.Trouble(ctx, path, cause)
	if payload.Damaged(err) || fault.HasCode(err, engine.Trouble) || fault.HasCode(err, engine.RightsMissing) ||
		fault.HasCode(err, mask.Impossible) {
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
