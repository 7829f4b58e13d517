package payload

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"grainkeep/internal/blob"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/rows"
)

// rows dumps the rows of all tables.
func (s *SQL) rows(ctx context.Context, feed *event.Feed) error {
	s.out.Tables = make([]manifest.Table, len(s.Catalog.Tables))
	for i, t := range s.Catalog.Tables {
		if m, ok := s.followed[t.ID]; ok {
			m.Made = t.Made
			s.out.Tables[i] = m
			continue
		}
		s.out.Tables[i] = manifest.Table{ID: t.ID, Schema: t.Schema, Name: t.Name, Columns: t.Columns, Tree: t.Tree,
			Through: t.Through, Condition: t.Condition, Files: []string{}, Shape: s.shape(&t), NoLog: s.noLog[t.ID],
			Made: t.Made}
	}
	scan := rows.Scanning{Snapshot: s.Snapshot, Catalog: s.Catalog, Meter: feed.Gauge(), Silence: s.Silence, Take: s.take,
		Samples: func(table int) int64 { return s.Catalog.Tables[table].SampleOf() },
		Sink: func(ctx context.Context, of rows.Part, _ *rows.Counter) (rows.Sink, error) {
			w := &partWriter{ctx: ctx, of: s, section: engine.Data, table: &s.Catalog.Tables[of.Table],
				m: &s.out.Tables[of.Table]}
			return w, w.begin()
		}}
	if s.InOrder {
		list, err := s.spanned(ctx)
		if err != nil {
			return err
		}
		scan.Spans = func(table int) []engine.Span { return list[table].spans }
		scan.Sink = func(ctx context.Context, of rows.Part, c *rows.Counter) (rows.Sink, error) {
			return list[of.Table].sink(ctx, of, c)
		}
	}
	found, err := rows.Scan(ctx, scan)
	if err != nil {
		return err
	}
	for i := range found {
		m := &s.out.Tables[i]
		switch s.take(i) {
		case rows.Nothing:
			continue
		case rows.Witness:
			m.Witness = found[i].Witness
			continue
		}
		m.Rows, m.Bytes, m.Sum = found[i].Rows, found[i].Bytes, found[i].Sum.String()
		m.Generated, m.Witness = found[i].Generated(), found[i].Witness
		slices.Sort(m.Files)
	}
	return nil
}

// take says what is read of a table: where the log tells what changed, no rows.
func (s *SQL) take(table int) rows.Take {
	m, ok := s.followed[s.Catalog.Tables[table].ID]
	switch {
	case !ok:
		return rows.All
	case m.Change == manifest.Logged:
		return rows.Witness
	}
	return rows.Nothing
}

// partBytes is how many bytes of rows a file takes before the next is begun. A restore
// loads the files of a large table side by side.
const partBytes = 64 << 20

// partWriter writes rows of a table into files of a bounded size.
type partWriter struct {
	ctx     context.Context
	of      *SQL
	section engine.Section
	table   *engine.Table
	m       *manifest.Table

	file    *blob.File
	rows    *rows.Table
	bytes   int
	partial bool       // in the middle of a row
	closing chan error // of the file before
}

func (w *partWriter) begin() (err error) {
	w.of.mu.Lock()
	path := fmt.Sprintf("%s/%s/part-%04d.sql%s", w.section, keep.TableFolder(w.table.Schema, w.table.Name),
		len(w.m.Files)+1, w.of.Compression.Ending())
	w.m.Files = append(w.m.Files, path)
	w.of.mu.Unlock()
	if w.file, err = w.of.files.Create(w.ctx, path, w.of.Compression); err != nil {
		return err
	}
	w.bytes = 0
	if _, err = w.file.Write([]byte(head(w.section, w.of.Catalog))); err == nil {
		w.rows, err = rows.NewTable(w.file, w.table.Frame)
	}
	if err != nil {
		_, err = w.file.Close(err)
		w.file = nil
	}
	return err
}

// Row implements rows.Sink.
func (w *partWriter) Row(p []byte, more bool) error {
	if w.bytes >= partBytes && !w.partial {
		if err := w.finish(nil); err != nil {
			return err
		}
		if err := w.begin(); err != nil {
			return err
		}
	}
	w.bytes += len(p)
	w.partial = more
	return w.rows.Row(p, more)
}

// finish ends the current file. It is synced while the next one is written.
func (w *partWriter) finish(cause error) error {
	before := w.wait()
	file := w.file
	w.file = nil
	err := cause
	if err == nil {
		err = w.rows.End()
	}
	if err == nil {
		_, err = file.Write([]byte(w.of.Catalog.Trailer))
	}
	w.closing = make(chan error, 1)
	go func(done chan<- error) {
		_, err := file.Close(err)
		done <- err
	}(w.closing)
	return before
}

// wait is for the file before.
func (w *partWriter) wait() (err error) {
	if w.closing != nil {
		err, w.closing = <-w.closing, nil
	}
	return err
}

// End implements rows.Sink.
func (w *partWriter) End(cause error) error {
	if w.file == nil {
		return errors.Join(cause, w.wait())
	}
	return errors.Join(w.finish(cause), w.wait())
}
