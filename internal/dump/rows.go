package dump

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"

	"grainkeep/internal/blob"
	"grainkeep/internal/engine"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/rows"
)

// rows dumps the rows of all tables.
func (o *one) rows(ctx context.Context) error {
	o.m.Tables = make([]manifest.Table, len(o.cat.Tables))
	for i, t := range o.cat.Tables {
		o.m.Tables[i] = manifest.Table{ID: t.ID, Schema: t.Schema, Name: t.Name, Columns: t.Columns, Tree: t.Tree, Through: t.Through, Condition: t.Condition}
	}
	o.w.Meter.Begin("dumping "+o.m.Database, 0, 0)
	found, err := rows.Scan(ctx, o.snap, o.w.Meter, func(table int) (rows.Sink, error) {
		s := &sheaf{o: o, table: &o.cat.Tables[table], m: &o.m.Tables[table]}
		return s, s.begin()
	})
	if err != nil {
		return err
	}
	for i := range found {
		m := &o.m.Tables[i]
		m.Rows, m.Bytes, m.Sum = found[i].Rows, found[i].Bytes, found[i].Sum.String()
		slices.Sort(m.Files)
	}
	return nil
}

// fileOf is how many bytes of rows a file takes before the next is begun. A restore
// loads the files of a large table side by side.
const fileOf = 64 << 20

// sheaf writes rows of a table into files of a bounded size.
type sheaf struct {
	o     *one
	table *engine.Table
	m     *manifest.Table

	path    string
	file    *blob.File
	rows    *rows.Table
	bytes   int
	partial bool       // in the middle of a row
	closing chan error // of the file before
}

func (s *sheaf) begin() (err error) {
	s.o.mu.Lock()
	s.path = filepath.Join(string(engine.Data), keep.TableFolder(s.table.Schema, s.table.Name),
		fmt.Sprintf("part-%04d.sql%s", len(s.m.Files)+1, s.o.Compression.Ending()))
	s.m.Files = append(s.m.Files, s.path)
	s.o.mu.Unlock()
	if s.file, err = blob.Create(filepath.Join(s.o.folder, s.path), s.o.Compression, s.o.guard); err != nil {
		return err
	}
	s.bytes = 0
	if _, err = s.file.Write([]byte(s.o.cat.Header)); err == nil {
		s.rows, err = rows.NewTable(s.file, s.table.Frame)
	}
	if err != nil {
		err = s.o.closed(s.path, s.file, err)
		s.file = nil
	}
	return err
}

// Row implements engine.Rows.
func (s *sheaf) Row(p []byte, more bool) error {
	if s.bytes >= fileOf && !s.partial {
		if err := s.finish(); err != nil {
			return err
		}
		if err := s.begin(); err != nil {
			return err
		}
	}
	s.bytes += len(p)
	s.partial = more
	return s.rows.Row(p, more)
}

// finish ends the current file. It is synced while the next one is written.
func (s *sheaf) finish() error {
	before := s.wait()
	path, file := s.path, s.file
	s.file = nil
	err := s.rows.End()
	if err == nil {
		_, err = file.Write([]byte(s.o.cat.Trailer))
	}
	s.closing = make(chan error, 1)
	go func(done chan<- error) { done <- s.o.closed(path, file, err) }(s.closing)
	return before
}

// wait is for the file before.
func (s *sheaf) wait() (err error) {
	if s.closing != nil {
		err, s.closing = <-s.closing, nil
	}
	return err
}

// End implements rows.Sink.
func (s *sheaf) End() error {
	if s.file == nil {
		return s.wait()
	}
	return errors.Join(s.finish(), s.wait())
}
