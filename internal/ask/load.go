package ask

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"grainkeep/internal/blob"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
	"grainkeep/internal/payload"
)

// load loads what a question needs of a table. A table whose rows changed in the chain is loaded with all its columns,
// and with the tables that a log ties to it.
func (s *Session) load(ctx context.Context, t *table, columns []string, f filter) error {
	if s.plan != nil && s.plan.Stop != nil {
		if why := s.plan.Reaches(s.parts.Together(map[string]bool{t.ID: true})); why != "" {
			return fault.New("moment-unreachable", nil, "that moment lies between two dumps, and %s cannot be had at it: %s", t.name,
				why).Advise("take the end of a dump")
		}
	}
	if len(t.layers) > 1 {
		return s.loadChain(ctx, t)
	}
	if s.snap != nil {
		return s.loadLive(ctx, t)
	}
	wanted := map[string]bool{}
	for _, read := range columns {
		for _, c := range t.Columns {
			if strings.EqualFold(c, read) {
				wanted[c] = true
			}
		}
	}
	if t.columns != nil {
		enough := t.filter == "" || t.filter == f.words
		for c := range wanted {
			enough = enough && t.columns[c]
		}
		if enough {
			return nil
		}
		maps.Copy(wanted, t.columns)
		if t.filter != f.words {
			f = filter{}
		}
		if err := s.make(ctx, t); err != nil {
			return err
		}
	}
	if err := s.loadRows(ctx, t, t.layers[0], wanted, f); err != nil {
		return err
	}
	t.columns, t.filter = wanted, f.words
	return nil
}

// loadRows loads the rows that a dump has of a table.
func (s *Session) loadRows(ctx context.Context, t *table, x payload.Layer, wanted map[string]bool, f filter) error {
	l := newInserts(s.text, t, wanted, f)
	return s.insert(ctx, l, func() error { return s.scan(ctx, x, l.row) })
}

// scan gives the rows that a dump has of a table.
func (s *Session) scan(ctx context.Context, x payload.Layer, each func(row []byte) error) error {
	s.meter.Begin("reading "+x.Table.ID, len(x.Table.Files), x.Table.Bytes)
	rows := int64(0)
	for _, path := range x.Table.Files {
		err := s.file(ctx, x.Files, path, func(_ context.Context, text io.Reader) error {
			return s.text.EachRow(text, func(row, _ []byte) error {
				rows++
				return each(row)
			}, func([]byte) error { return nil })
		})
		if err != nil {
			return err
		}
		s.meter.Done.Add(1)
	}
	want := x.Table.Rows
	if x.Table.Change == manifest.Ranges {
		want = x.Table.Counts.Written
	}
	if rows != want && !x.Table.About {
		return payload.Damage(s.plan.Last(), fmt.Sprintf("%d rows of %s are there, and it says %d", rows, x.Table.ID, want))
	}
	return nil
}

// insert inserts the rows that a function brings.
func (s *Session) insert(ctx context.Context, l *inserts, bring func() error) (err error) {
	if _, err := s.db.Exec(ctx, "BEGIN"); err != nil {
		return err
	}
	defer func() {
		if err != nil { // the next question finds an empty table; the library may have rolled back by itself
			_, _ = s.db.Exec(context.WithoutCancel(ctx), "ROLLBACK")
		}
	}()
	into, err := s.db.Into(l.t.name, l.names)
	if err != nil {
		return err
	}
	l.into = insertBeside(into, len(l.names))
	err = bring()
	if e := l.into.Close(); err == nil {
		err = e
	}
	if err = errors.Join(err, into.Close()); err == nil && len(l.names) == 0 {
		err = s.loadCount(ctx, l.t, l.passed)
	}
	if err == nil {
		_, err = s.db.Exec(ctx, "COMMIT")
	}
	return err
}

// file gives the text of a file of the dump to a function, and fails unless all of it is what the manifest says.
func (s *Session) file(ctx context.Context, of *payload.Reader, path string, use func(context.Context, io.Reader) error) error {
	f, err := of.Open(ctx, path)
	if err != nil {
		return err
	}
	defer f.Close()
	in := &counted{Reader: f, done: func(n int) { s.meter.Bytes.Add(int64(n)) }}
	text := blob.NewAhead(in)
	defer text.Close()
	err = use(ctx, text)
	text.Close()
	switch {
	case ctx.Err() != nil:
		return context.Cause(ctx)
	case in.err != nil:
		return of.Trouble(ctx, path, in.err)
	case err != nil:
		var known *fault.Error
		if errors.As(err, &known) {
			return err
		}
		return of.Trouble(ctx, path, err)
	}
	return of.CheckSum(ctx, path, f)
}

// counted tells how much was read, and remembers why there was no more.
type counted struct {
	io.Reader
	done func(int)
	err  error
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.done(n)
	if err != nil && err != io.EOF {
		c.err = err
	}
	return n, err
}

// inserts are rows on their way into a table.
type inserts struct {
	text   engine.RowText
	t      *table
	at     []int // which values of a row are wanted
	names  []string
	filter filter
	into   engine.TempRows
	cutter *engine.RowCutter
	values []engine.Value
	cells  []engine.Cell
	passed int64 // rows that are not left out
}

func newInserts(text engine.RowText, t *table, wanted map[string]bool, f filter) *inserts {
	l := &inserts{text: text, t: t, filter: f, cutter: text.Cutter()}
	for i, c := range t.Columns {
		if wanted == nil || wanted[c] {
			l.at, l.names = append(l.at, i), append(l.names, c)
		}
	}
	l.filter.place(t.Columns)
	l.cells = make([]engine.Cell, len(l.at))
	return l
}

// row takes a row, as a file or a server's reader gives it.
func (l *inserts) row(row []byte) (err error) {
	if len(l.at) == 0 && l.filter.empty() {
		l.passed++
		return nil
	}
	if l.values, err = l.cutter.Cut(l.values[:0], row); err != nil {
		return err
	}
	if len(l.values) != len(l.t.Columns) {
		return fmt.Errorf("a row of %s has %d values, and the table %d columns", l.t.ID, len(l.values), len(l.t.Columns))
	}
	if !l.filter.passes(l.text, l.t, l.values) || l.t.only != nil && !l.t.only(l.values) {
		return nil
	}
	l.passed++
	for i, at := range l.at {
		if l.cells[i], err = l.t.cell(l.text, at, l.values[at]); err != nil {
			return err
		}
	}
	if len(l.at) == 0 {
		return nil
	}
	return l.into.Insert(l.cells)
}

// loadCount gives a table as many rows as it has, whose values nobody asked for.
func (s *Session) loadCount(ctx context.Context, t *table, rows int64) error {
	if rows == 0 {
		return nil
	}
	column := quoted(t.Columns[0])
	_, err := s.db.Exec(ctx, "INSERT INTO "+quoted(t.name)+" DEFAULT VALUES")
	for have := int64(1); have < rows && err == nil; have *= 2 {
		_, err = s.db.Exec(ctx, "INSERT INTO "+quoted(t.name)+"("+column+") SELECT NULL FROM "+quoted(t.name)+" LIMIT ?",
			engine.Cell{Kind: engine.IntCell, Int: min(have, rows-have)})
	}
	return err
}

// cell is what a value of a column means.
func (t *table) cell(text engine.RowText, at int, v engine.Value) (engine.Cell, error) {
	if v.Kind == engine.Expression {
		return engine.Cell{}, fault.New("ask-impossible", nil, "a value of %s.%s is one that only the server can reckon: %.60q", t.name,
			t.Columns[at], v.Data).Advise("restore the dump")
	}
	if v.Kind != engine.Null && t.exactly(t.defined[at]) {
		return engine.Cell{Kind: engine.TextCell, Data: v.Data}, nil
	}
	return cell(text, &t.defined[at], v), nil
}

// loadChain loads a table whose rows changed in the chain, with those whose rows change together with its.
func (s *Session) loadChain(ctx context.Context, t *table) error {
	if t.columns != nil {
		return nil
	}
	group := s.parts.Together(map[string]bool{t.ID: true})
	layers := map[string][]payload.Layer{}
	for _, id := range slices.Sorted(maps.Keys(group)) {
		x := s.byID[id]
		if x == nil {
			continue
		}
		layers[id] = x.layers
		if err := s.make(ctx, x, s.references(x, group)...); err != nil {
			return err
		}
		for i, layer := range x.layers {
			if i > 0 && layer.Table.Change != manifest.Ranges {
				continue
			}
			if err := s.remove(ctx, x, layer); err != nil {
				return err
			}
			if err := s.loadRows(ctx, x, layer, nil, filter{}); err != nil {
				return err
			}
		}
	}
	if err := s.replay(ctx, layers); err != nil {
		return err
	}
	for id := range layers {
		x := s.byID[id]
		x.columns = map[string]bool{}
		for _, c := range x.Columns {
			x.columns[c] = true
		}
	}
	return nil
}
