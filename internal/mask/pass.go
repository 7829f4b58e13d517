package mask

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/pattern"
)

// transformed is a text that is written while it is read.
type transformed struct {
	*io.PipeReader
	ended chan struct{}
	err   error // of who writes
}

// transform gives the text that a function writes. It is to be closed: then the function has ended, and why it failed is
// told, unless that was for want of a reader.
func transform(write func(w io.Writer) error) io.ReadCloser {
	r, w := io.Pipe()
	t := &transformed{PipeReader: r, ended: make(chan struct{})}
	go func() {
		defer close(t.ended)
		out := &buffered{w: w}
		if t.err = write(out); t.err == nil {
			t.err = out.flush()
		}
		w.CloseWithError(t.err) // never fails
	}()
	return t
}

// Close implements io.Closer.
func (t *transformed) Close() error {
	t.PipeReader.Close() // never fails
	<-t.ended
	if errors.Is(t.err, io.ErrClosedPipe) {
		return nil
	}
	return t.err
}

// buffered gathers what is written.
type buffered struct {
	w    io.Writer
	room []byte
}

const bufferedBytes = 128 << 10

func (b *buffered) Write(p []byte) (int, error) {
	if len(b.room)+len(p) > bufferedBytes {
		if err := b.flush(); err != nil {
			return 0, err
		}
	}
	b.room = append(b.room, p...)
	return len(p), nil
}

func (b *buffered) flush() error {
	_, err := b.w.Write(b.room)
	b.room = b.room[:0]
	return err
}

// Rows gives the text of a file of rows of a table with its masks on. It is to be closed.
func (s *Set) Rows(id string, text io.Reader) io.ReadCloser {
	t := s.tables[id]
	if t == nil {
		return io.NopCloser(text)
	}
	text = s.look(t, text)
	if !t.masked {
		return io.NopCloser(text)
	}
	return transform(func(w io.Writer) error {
		p := &passing{set: s, t: t, w: w, cutter: s.text.Cutter()}
		err := s.text.EachRow(text, p.row, func(line []byte) error {
			if err := p.flush(); err != nil {
				return err
			}
			_, err := w.Write(line)
			return err
		})
		if err == nil {
			err = p.flush()
		}
		return err
	})
}

// passing is a file of rows on its way.
type passing struct {
	set    *Set
	t      *table
	w      io.Writer
	cutter *engine.RowCutter
	values []engine.Value
	out    []byte

	held   [][]engine.Value // rows whose values change places, and what ends each
	ends   [][]byte
	bytes  int
	blocks uint64
}

// Rows whose values change places are held: so many, and of so many bytes.
const (
	heldRows  = 1000
	heldBytes = 4 << 20
)

func (p *passing) row(line, end []byte) (err error) {
	if p.values, err = p.cutter.Cut(p.values[:0], line); err != nil {
		return err
	}
	if len(p.values) != len(p.t.columns) {
		return fmt.Errorf("a row of %s has %d values, and the table %d columns", p.t.ID, len(p.values), len(p.t.columns))
	}
	for i, c := range p.t.columns {
		if c.make != nil {
			p.values[i] = c.make(p.values[i])
		}
	}
	if !p.shuffles() {
		return p.write(p.values, end)
	}
	row := make([]engine.Value, len(p.values))
	for i, v := range p.values {
		row[i] = engine.Value{Kind: v.Kind, Data: bytes.Clone(v.Data)}
	}
	p.held, p.ends = append(p.held, row), append(p.ends, bytes.Clone(end))
	if p.bytes += len(line); len(p.held) >= heldRows || p.bytes > heldBytes {
		return p.flush()
	}
	return nil
}

func (p *passing) shuffles() bool {
	return slices.ContainsFunc(p.t.columns, func(c column) bool { return c.how == Shuffle })
}

func (p *passing) write(values []engine.Value, end []byte) error {
	p.out = append(p.set.text.AppendRow(p.out[:0], values), end...)
	_, err := p.w.Write(p.out)
	return err
}

// flush lets the values of the rows that are held change places, and writes them.
func (p *passing) flush() error {
	for i, c := range p.t.columns {
		if c.how != Shuffle {
			continue
		}
		x := p.set.of("shuffle", fmt.Appendf(nil, "%s.%s %d", p.t.ID, c.name, p.blocks))
		rand.New(rand.NewPCG(x.wide(1<<63), x.wide(1<<63))).Shuffle(len(p.held), func(a, b int) {
			p.held[a][i], p.held[b][i] = p.held[b][i], p.held[a][i]
		})
	}
	p.blocks++
	for i, row := range p.held {
		if err := p.write(row, p.ends[i]); err != nil {
			return err
		}
	}
	p.held, p.ends, p.bytes = p.held[:0], p.ends[:0], 0
	return nil
}

// Removals gives the text of a file that removes rows of a table. It fails where that names rows by a column that is
// masked: they could not be found.
func (s *Set) Removals(id string, text io.Reader) io.ReadCloser {
	t := s.tables[id]
	if t == nil || !t.masked {
		return io.NopCloser(text)
	}
	return transform(func(w io.Writer) error {
		return engine.EachRemoval(io.TeeReader(text, w), func(sql []byte, _ int64) error { return removed(t, sql) }, nil)
	})
}

var quotedText = pattern.Of(`'(?:[^'\\]|\\.|'')*'`)

// removed looks which columns a statement names.
func removed(t *table, sql []byte) error {
	_, where, _ := strings.Cut(string(quotedText().ReplaceAll(sql, nil)), " WHERE ")
	for _, c := range t.columns {
		if c.how != "" && c.how != Clear && regexp.MustCompile(`(^|[^\pL\pN_])`+regexp.QuoteMeta(c.name)+`([^\pL\pN_]|$)`).MatchString(where) {
			return byKey(t, c)
		}
	}
	return nil
}

// byKey is the error about a mask on what rows are named by.
func byKey(t *table, c column) error {
	return fault.Wrong(Impossible, "the dumps since the full name rows by the column %s, which the mask %q would change: "+
		"they could not be found", t.shown(c.name), c.how).Advise("refresh from a full with --at, or take another mask")
}

// Changes gives the text of a file of transactions on some tables with the masks on.
func (s *Set) Changes(ids []string, text io.Reader) io.ReadCloser {
	if !slices.ContainsFunc(ids, func(id string) bool { return s.tables[id] != nil && s.tables[id].masked }) {
		return io.NopCloser(text)
	}
	return transform(func(w io.Writer) error {
		cutter := s.text.Cutter()
		var out []byte
		return engine.EachChange(text, ids, func(id string, sql, end []byte) error {
			t := s.tables[id]
			if id == "" || t == nil || !t.masked {
				if _, err := w.Write(sql); err != nil {
					return err
				}
				_, err := w.Write(end)
				return err
			}
			x, err := cutter.Change(sql, id)
			if err == nil {
				err = t.change(&x)
			}
			if err == nil {
				out = append(s.text.AppendChange(out[:0], sql, id, x), end...)
				_, err = w.Write(out)
			}
			return err
		})
	})
}

// change puts the masks on a statement.
func (t *table) change(x *engine.RowChange) error {
	at := map[string]column{}
	for _, c := range t.columns {
		if c.make != nil {
			at[c.name] = c
		}
	}
	for _, row := range x.Rows {
		for i, name := range x.Columns {
			if c, is := at[name]; is {
				row[i] = c.make(row[i])
			}
		}
	}
	for i, n := range x.Set {
		c, is := at[n.Column]
		if is && n.Value.Kind == engine.Expression && !bytes.Contains(bytes.Trim(n.Value.Data, "`\""), []byte("(")) {
			continue // it stays as it is
		}
		if is && n.Value.Kind == engine.Expression {
			return fmt.Errorf("a change of %s is a function of what was there, and cannot be masked", t.shown(c.name))
		}
		if is {
			x.Set[i].Value = c.make(n.Value)
		}
	}
	for i, n := range x.Where {
		c, is := at[n.Column]
		if !is {
			continue
		}
		if c.how != Hash && c.how != MadeUp {
			return byKey(t, c)
		}
		x.Where[i].Value = c.make(n.Value)
	}
	return nil
}
