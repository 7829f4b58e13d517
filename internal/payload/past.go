package payload

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"slices"

	"grainkeep/internal/blob"
	"grainkeep/internal/change"
	"grainkeep/internal/engine"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
)

// base is the database of the dump that this one builds on; nil: there is none.
func (s *SQL) base() *manifest.SQL {
	if len(s.Base) == 0 {
		return nil
	}
	return s.Base[len(s.Base)-1].Manifest.Payload.SQL
}

// build looks at what the dump builds on. Of a file that nobody has written to since, nothing is read.
func (s *SQL) build() error {
	base := s.base()
	if base == nil {
		return nil
	}
	s.past = base.ByID()
	s.tablesOfBase()
	s.out.Found = manifest.ByComparison
	was, is := s.Base[len(s.Base)-1].Manifest.To, s.Catalog.Position
	if was == nil || is == nil || is.State == "" || was.State != is.State || base.Catalog != s.out.Catalog {
		return nil
	}
	s.out.Found, s.out.Tables = manifest.ByState, slices.Clone(base.Tables)
	for i := range s.out.Tables {
		t := &s.out.Tables[i]
		t.Change, t.Files, t.Gone, t.Counts, t.Ranges, t.OnBase = manifest.Unchanged, []string{}, nil, nil, nil, false
	}
	return nil
}

// shape is a digest of how a table's rows are made and written: while it stays, rows of several dumps make one table.
// In it is what the table is and what it needs, such as a type, which may show the rows in other words.
func (s *SQL) shape(t *engine.Table) string {
	if s.of == nil {
		s.of, s.byID = map[string][]engine.Object{}, map[string]engine.Object{}
		for _, o := range s.Catalog.Objects {
			s.byID[o.ID()] = o
			if o.Section == engine.Schema || o.Section == engine.Keys {
				id := o.Table
				if o.Kind == "table" {
					id = o.Name
				}
				s.of[id] = append(s.of[id], o)
			}
		}
	}
	h := sha256.New()
	fmt.Fprintf(h, "%q %q %q %q %q %q\n", s.Catalog.Header, t.Frame.Head, t.Columns, t.Key, t.Condition, t.Through)
	seen := map[string]bool{}
	var take func(o engine.Object)
	take = func(o engine.Object) {
		if seen[o.ID()] {
			return
		}
		seen[o.ID()] = true
		sql := o.SQL
		if o.Alike != "" {
			sql = o.Alike
		}
		fmt.Fprintf(h, "%q %q\n", o.ID(), sql)
		for _, id := range o.Needs {
			if n, ok := s.byID[id]; ok && n.Section == engine.Schema {
				take(n)
			}
		}
	}
	for _, o := range s.of[t.ID] {
		take(o)
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// mostLists is how many lists of ranges lie on top of each other before one is written whole again.
const mostLists = 16

// Index are files of a chain that a dump on top of it reads, as one.
type Index struct {
	Dump  *keep.Dump
	Paths []string
}

// Indexes are the files of a chain that a dump on top of it reads.
func Indexes(chain []*keep.Dump) (list []Index) {
	last := chain[len(chain)-1].Manifest.Payload
	if last.SQL != nil {
		s := &SQL{Base: chain}
		s.tablesOfBase()
		for _, t := range last.SQL.Tables {
			list = append(list, s.listsOf(t.ID)...)
		}
		return list
	}
	for _, d := range chain {
		if t := d.Manifest.Payload.Tar; t != nil {
			paths := slices.DeleteFunc([]string{t.Index, t.Gone}, func(p string) bool { return p == "" })
			list = append(list, Index{d, paths})
		}
	}
	return list
}

// tablesOfBase notes the tables of each dump of the chain.
func (s *SQL) tablesOfBase() {
	for _, d := range s.Base {
		var tables map[string]manifest.Table
		if sql := d.Manifest.Payload.SQL; sql != nil {
			tables = sql.ByID()
		}
		s.tables = append(s.tables, tables)
	}
}

// read gives a table as it was when its rows were read last, and whether the log told of changes after that; nil: there
// was no such table.
func (s *SQL) read(id string) (was *manifest.Table, logged bool) {
	for i := range slices.Backward(s.Base) {
		t, ok := s.tables[i][id]
		switch {
		case !ok:
			return nil, false
		case t.Change == manifest.Whole || t.Change == manifest.Ranges:
			return &t, logged
		}
		logged = logged || t.Change == manifest.Logged
	}
	return nil, false
}

// listsOf finds the lists of a table's ranges as they were, from the whole one on; none: it was one range.
func (s *SQL) listsOf(id string) (lists []Index) {
	for i, d := range slices.Backward(s.Base) {
		t, ok := s.tables[i][id]
		if !ok {
			return nil
		}
		if len(t.Ranges) > 0 {
			lists = append(lists, Index{d, t.Ranges})
		}
		if t.Change == manifest.Whole || len(t.Ranges) > 0 && !t.OnBase {
			break
		}
	}
	slices.Reverse(lists)
	return lists
}

// pastRanges reads the ranges that a table had.
type pastRanges struct {
	change.Ranges
	open []openList
}

type openList struct {
	of   *Reader
	path string
	text *blob.Source
}

// readRanges begins to read a table's ranges. They are to be closed.
func readRanges(ctx context.Context, lists []Index) (*pastRanges, error) {
	p := &pastRanges{}
	for _, l := range lists {
		r := &Reader{d: l.Dump}
		var texts []io.Reader
		for _, path := range l.Paths {
			text, err := r.Open(ctx, path)
			if err != nil {
				return nil, p.stop(err)
			}
			p.open, texts = append(p.open, openList{r, path, text}), append(texts, text)
		}
		p.Ranges = change.Read(io.MultiReader(texts...), p.Ranges)
	}
	return p, nil
}

// Close reads what is left, and fails unless all is what the manifests say.
func (p *pastRanges) Close(ctx context.Context) error {
	for _, l := range p.open {
		if _, err := io.Copy(io.Discard, l.text); err != nil {
			return p.stop(l.of.Trouble(ctx, l.path, err))
		}
		if err := l.of.CheckSum(ctx, l.path, l.text); err != nil {
			return p.stop(err)
		}
	}
	return p.stop(nil)
}

// stop closes the files.
func (p *pastRanges) stop(cause error) error {
	for _, l := range p.open {
		l.text.Close()
	}
	p.open = nil
	return cause
}
