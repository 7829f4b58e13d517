package payload

import (
	"context"
	"errors"
	"fmt"

	"grainkeep/internal/blob"
	"grainkeep/internal/change"
	"grainkeep/internal/engine"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/rows"
)

// maxHeld bounds the rows that are held, in bytes, until it is known whether they are written. More are read again.
const maxHeld = 1 << 20

// ranged takes the rows of a span of a table in the order of its key, and cuts them into ranges. All of them are
// written, or those that are not as they were.
type ranged struct {
	t      *spanned
	number int // of the span
	span   engine.Span
	w      *partWriter
	c      *rows.Counter
	cut    change.Cutter
	key    []byte // of the row that comes
	length int64  // of the row so far, in bytes
	sum    rows.Fingerprint
	rows   int64  // and the sum: before the range that is being read
	after  string // the end of the range before

	all   bool           // every row is written as it comes
	list  *change.Writer // of the ranges of now
	first *change.Range  // that is not in the list yet: a whole list tells of two ranges at least
	told  int            // ranges, into a whole list
	lists lazyFile       // where the list is

	compare *change.Comparison // with its ranges; nil: it is compared as a whole
	past    *pastRanges
	gone    removals

	held  []byte // rows of the range that is being read
	ends  []int  // of the rows in that
	lost  bool   // there were too many: they are read again
	again []doAgain
	n     int64 // rows written of those that are compared
}

// doAgain is a range that is to be written, and was too long to be held.
type doAgain struct {
	engine.Span
	of change.Range
}

// Key implements rows.KeyedSink.
func (r *ranged) Key(text []byte) { r.key = append(r.key[:0], text...) }

// Row implements rows.Sink.
func (r *ranged) Row(p []byte, more bool) error {
	r.length += int64(len(p))
	switch {
	case r.all:
		if err := r.w.Row(p, more); err != nil {
			return err
		}
	case !r.lost && len(r.held)+len(p) > maxHeld:
		r.lost, r.held, r.ends = true, r.held[:0], r.ends[:0]
	case !r.lost:
		r.held = append(r.held, p...)
		if !more {
			r.ends = append(r.ends, len(r.held))
		}
	}
	if more {
		return nil
	}
	length := r.length
	r.length = 0
	if r.cut.Cut(r.key, length) && string(r.key) != r.span.UpTo {
		return r.end(string(r.key))
	}
	return nil
}

// end ends a range.
func (r *ranged) end(key string) error {
	now := change.Range{End: key, Rows: r.c.Rows - r.rows, Sum: r.c.Sum.Since(r.sum)}
	span := engine.Span{After: r.after, UpTo: key}
	r.rows, r.sum, r.after = r.c.Rows, r.c.Sum, key
	if r.compare == nil {
		return r.tell(now)
	}
	verdict, err := r.compare.Next(now)
	if err != nil {
		return err
	}
	if verdict == change.Write {
		if r.lost {
			r.again = append(r.again, doAgain{span, now})
		} else if err := r.write(); err != nil {
			return err
		}
	}
	r.held, r.ends, r.lost = r.held[:0], r.ends[:0], false
	return nil
}

// tell puts a range into the whole list.
func (r *ranged) tell(now change.Range) error {
	if r.told++; r.told == 1 {
		r.first = &now
		return nil
	}
	if r.first != nil {
		if err := r.list.Add(*r.first); err != nil {
			return err
		}
		r.first = nil
	}
	return r.list.Add(now)
}

// write writes the rows that are held.
func (r *ranged) write() error {
	begin := 0
	for _, end := range r.ends {
		if err := r.put(r.held[begin:end], false); err != nil {
			return err
		}
		begin = end
	}
	return nil
}

// put writes a row, or a piece of one, that changed.
func (r *ranged) put(p []byte, more bool) error {
	if r.w.file == nil {
		if r.compare != nil {
			r.w.section = engine.Changes
		}
		if err := r.w.begin(); err != nil {
			return err
		}
	}
	if !more {
		r.n++
	}
	return r.w.Row(p, more)
}

// End implements rows.Sink.
func (r *ranged) End(cause error) error {
	err := cause
	if err == nil {
		err = r.end(r.span.UpTo)
	}
	if err == nil && r.compare == nil && !r.all {
		err = r.decide()
	}
	if r.past != nil {
		if err == nil {
			err = r.past.Close(r.w.ctx)
		} else {
			err = r.past.stop(err)
		}
	}
	if err == nil && (r.list.Changed() || r.lists.file != nil) {
		err = r.list.Close()
	}
	if e := r.lists.close(err); err == nil {
		err = e
	}
	if e := r.gone.close(err); err == nil {
		err = e
	}
	if err != nil || len(r.again) == 0 {
		if e := r.w.End(err); err == nil {
			err = e
		}
	}
	return err
}

// decide says what becomes of a table that is compared as a whole.
func (r *ranged) decide() error {
	if r.c.Rows == r.t.was.Rows && r.c.Sum.String() == r.t.was.Sum {
		r.t.m.Change = manifest.Unchanged
		if r.t.logged { // it is as it was before what the log told
			r.t.m.Change, r.t.m.Counts = manifest.Ranges, &manifest.Counts{}
		}
		return nil
	}
	if r.lost {
		r.again = append(r.again, doAgain{of: change.Range{Rows: r.c.Rows, Sum: r.c.Sum}})
		return nil
	}
	if err := r.write(); err != nil || r.w.file != nil {
		return err
	}
	return r.w.begin() // it has no rows any more
}

// Again implements rows.KeyedSink: ranges that were too long to be held are read once more.
func (r *ranged) Again(ctx context.Context, from engine.Ordered) error {
	for _, a := range r.again {
		second := &rereading{of: r}
		err := from.ReadSpan(ctx, r.w.table, a.Span, second)
		if err == nil && (second.c.Rows != a.of.Rows || second.c.Sum != a.of.Sum) {
			err = fmt.Errorf("the table %s gives other rows when it is read a second time", r.w.table.ID)
		}
		if err != nil {
			return errors.Join(err, r.w.End(err))
		}
	}
	if len(r.again) > 0 {
		if err := r.w.End(nil); err != nil {
			return err
		}
	}
	return r.t.finish(r)
}

// rereading writes rows that are read once more.
type rereading struct {
	of *ranged
	c  rows.Counter
}

// Key implements engine.KeyedRows.
func (*rereading) Key([]byte) {}

// Beside implements engine.Rows.
func (*rereading) Beside([]byte) {}

// Row implements engine.Rows.
func (r *rereading) Row(p []byte, more bool) error {
	if err := r.c.Row(p, more); err != nil {
		return err
	}
	return r.of.put(p, more)
}

// lazyFile is a file of a dump that is begun with the first byte.
type lazyFile struct {
	w    *partWriter
	path string
	head string
	file *blob.File
	done bool
}

// create says where the file will be.
func (l *lazyFile) create(w *partWriter, path string) {
	l.w, l.path = w, path+w.of.Compression.Ending()
}

// Write implements io.Writer.
func (l *lazyFile) Write(p []byte) (n int, err error) {
	if l.file == nil {
		if l.file, err = l.w.of.files.Create(l.w.ctx, l.path, l.w.of.Compression); err != nil {
			return 0, err
		}
		if _, err := l.file.Write([]byte(l.head)); err != nil {
			return 0, err
		}
	}
	return l.file.Write(p)
}

// close ends the file, if there is one that is not ended.
func (l *lazyFile) close(cause error) error {
	if l.file == nil || l.done {
		return cause
	}
	l.done = true
	_, err := l.file.Close(cause)
	return err
}

// removals is the file of the statements that remove rows of a table.
type removals struct {
	file  lazyFile
	table *engine.Table
	rows  int64
	end   string // of the file
}

// of says where a table's removals will be.
func (r *removals) of(w *partWriter, number int) {
	r.table, r.end = w.table, w.table.RemoveTail+w.of.Catalog.Trailer
	r.file.head = head(engine.Changes, w.of.Catalog) + w.table.RemoveHead
	r.file.create(w, fmt.Sprintf("%s/%s/gone%s.sql", engine.Changes, keep.TableFolder(w.table.Schema, w.table.Name),
		numbered("-%04d", number)))
}

func (r *removals) add(x change.Removal) error {
	r.rows += x.Rows
	_, err := r.file.Write(engine.AppendRows([]byte(r.table.Remove(x.Span)), x.Rows))
	return err
}

func (r *removals) close(cause error) error {
	if r.file.file != nil && cause == nil {
		_, cause = r.file.Write([]byte(r.end))
	}
	return r.file.close(cause)
}
