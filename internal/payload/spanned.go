package payload

import (
	"context"
	"fmt"
	"io"
	"sync"

	"grainkeep/internal/change"
	"grainkeep/internal/engine"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/rows"
)

// spanned is a table that is read in the order of its key, in spans side by side: what those share.
type spanned struct {
	s      *SQL
	table  *engine.Table
	m      *manifest.Table
	was    *manifest.Table // the table as it was when its rows were read last; nil: all of it is written
	logged bool            // the log told of changes after that
	lists  []Index         // of its ranges as they were; none: it was one, and is compared as a whole
	whole  bool            // its list is written whole
	spans  []engine.Span

	mu   sync.Mutex
	of   []*ranged // those that are read to the end
	left int
}

// A table is compared in spans side by side where it pays, by the text of its rows in bytes.
const (
	spanFrom  = 8 << 20
	mostSpans = 4
)

// spanned looks how each table is read.
func (s *SQL) spanned(ctx context.Context) ([]*spanned, error) {
	list := make([]*spanned, len(s.Catalog.Tables))
	for i := range list {
		t := &spanned{s: s, table: &s.Catalog.Tables[i], m: &s.out.Tables[i], whole: true, spans: []engine.Span{{}}}
		list[i] = t
		if _, ok := s.followed[t.m.ID]; ok {
			continue
		}
		if was, logged := s.read(t.m.ID); was != nil && was.Shape == t.m.Shape {
			t.was, t.logged, t.lists = was, logged, s.listsOf(was.ID)
		}
		if n := len(t.lists); n > 0 && n < mostLists {
			t.whole = false
			if err := t.divide(ctx); err != nil {
				return nil, err
			}
		}
		t.left = len(t.spans)
		t.of = make([]*ranged, t.left)
	}
	return list, nil
}

// divide makes spans of some equal numbers of rows, which end where ranges did.
func (t *spanned) divide(ctx context.Context) error {
	n := min(int64(t.s.Snapshot.Width()), mostSpans, t.was.Bytes/spanFrom)
	if n < 2 {
		return nil
	}
	past, err := readRanges(ctx, t.lists)
	if err != nil {
		return err
	}
	var seen int64
	for {
		r, err := past.Ranges()
		if err == io.EOF {
			break
		}
		if err != nil {
			return past.stop(t.damage(err))
		}
		k := int64(len(t.spans))
		if seen += r.Rows; k < n && seen >= t.was.Rows*k/n && r.End != "" {
			t.spans[k-1].UpTo = r.End
			t.spans = append(t.spans, engine.Span{After: r.End})
		}
	}
	return past.Close(ctx)
}

// damage is about a list of ranges that cannot be followed.
func (t *spanned) damage(err error) error {
	return Damage(t.s.Base[len(t.s.Base)-1], fmt.Sprintf("the ranges of %s cannot be read: %v", t.table.ID, err))
}

// sink is where the rows of a span go.
func (t *spanned) sink(ctx context.Context, of rows.Part, c *rows.Counter) (*ranged, error) {
	w := &partWriter{ctx: ctx, of: t.s, section: engine.Data, table: t.table, m: t.m}
	r := &ranged{t: t, number: of.Number, span: of.Span, w: w, c: c, after: of.Span.After}
	r.lists.create(w, manifest.RangesFolder+"/"+keep.TableFolder(t.table.Schema, t.table.Name)+numbered(".%d", of.Number))
	r.list = change.NewWriter(&r.lists, t.whole)
	if t.was == nil {
		r.all = true
		return r, w.begin()
	}
	if len(t.lists) == 0 {
		return r, nil
	}
	var err error
	if r.past, err = readRanges(ctx, t.lists); err != nil {
		return nil, err
	}
	r.gone.of(w, of.Number)
	before := change.Between(r.past.Ranges, of.Span)
	r.compare = change.Compare(of.Span, func() (change.Range, error) {
		x, err := before()
		if err != nil && err != io.EOF {
			err = t.damage(err)
		}
		return x, err
	}, r.list, r.gone.add)
	return r, nil
}

// numbered is a part of a name that tells the spans after the first.
func numbered(format string, number int) string {
	if number == 0 {
		return ""
	}
	return fmt.Sprintf(format, number+1)
}

// finish notes that a span is read, and with the last one what the dump has of the table.
func (t *spanned) finish(r *ranged) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.of[r.number] = r
	if t.left--; t.left > 0 {
		return nil
	}
	var counts manifest.Counts
	listed := false
	for _, x := range t.of {
		listed = listed || x.lists.file != nil
		counts.Written, counts.Removed = counts.Written+x.n, counts.Removed+x.gone.rows
		if x.gone.file.file != nil {
			t.m.Gone = append(t.m.Gone, x.gone.file.path)
		}
	}
	for _, x := range t.of {
		if listed && x.lists.file == nil { // of this span all ranges stay
			if err := x.lists.close(x.list.Close()); err != nil {
				return err
			}
		}
		if listed {
			t.m.Ranges = append(t.m.Ranges, x.lists.path)
		}
	}
	t.m.OnBase = listed && !t.whole
	if r.compare == nil {
		return nil
	}
	t.m.Change = manifest.Unchanged
	if counts != (manifest.Counts{}) || t.logged { // what the log told in between does not count any more
		t.m.Change, t.m.Counts = manifest.Ranges, &counts
	}
	return nil
}
