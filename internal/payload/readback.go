package payload

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"github.com/zeebo/xxh3"

	"grainkeep/internal/engine"
	"grainkeep/internal/rows"
)

// What the log says of rows is held against the rows themselves: those that it touched are asked of the server by their
// keys, in the snapshot at which the log was read to its end. Where a table was touched in more rows than the bound, a
// sample is asked for that is spread over all of them.

const (
	mostReadBack    = 20_000  // rows of a table
	mostReadBackAll = 100_000 // of all tables
)

// image is what the log told last of a row.
type image struct {
	hash  xxh3.Uint128 // of its text
	known bool         // the text is
	there bool         // the row is
}

// images are those of a table, by key: of the keys whose own hash is not above a limit.
type images struct {
	of    map[string]image
	limit uint64
}

func newImages() *images { return &images{of: map[string]image{}, limit: ^uint64(0)} }

// take notes what a row is, and gives by how many rows more are noted.
func (x *images) take(key, row []byte, there bool) int {
	if xxh3.Hash(key) > x.limit {
		return 0
	}
	was := len(x.of)
	i := image{there: there, known: there && row != nil}
	if i.known {
		i.hash = xxh3.Hash128(row)
	}
	x.of[string(key)] = i
	for len(x.of) > mostReadBack {
		x.halve()
	}
	return len(x.of) - was
}

// halve leaves about half of the keys, whatever they are.
func (x *images) halve() {
	x.limit /= 2
	maps.DeleteFunc(x.of, func(key string, _ image) bool { return xxh3.HashString(key) > x.limit })
}

// written is how many rows there are of those that the log told of, and whether that is of all of them.
func (x *images) written() (n int64, whole bool) {
	if x == nil {
		return 0, false
	}
	for _, i := range x.of {
		if i.there {
			n++
		}
	}
	return n, x.limit == ^uint64(0)
}

// Image implements engine.ChangeSink.
func (l *logged) Image(t *engine.Table, key, row []byte, there bool) {
	x := l.images[t.ID]
	if x == nil {
		return
	}
	for l.noted += x.take(key, row, there); l.noted > mostReadBackAll; {
		l.noted = 0
		for _, x := range l.images {
			x.halve()
			l.noted += len(x.of)
		}
	}
}

// look holds what the log told against what the server says at the snapshot: rows that it touched, and others. A table
// that is not as the log told is not followed any more.
func (l *logged) look(ctx context.Context, from engine.Position) error {
	r, err := l.s.Snapshot.Reader(ctx)
	if err != nil {
		return err
	}
	defer r.Close()
	reader, can := r.(engine.KeyReader)
	if !can {
		return nil
	}
	if err := l.readBack(ctx, reader); err != nil {
		return err
	}
	return l.rotate(ctx, reader, from)
}

// readBack asks the server for the rows that the log touched.
func (l *logged) readBack(ctx context.Context, reader engine.KeyReader) error {
	for i := range l.s.Catalog.Tables {
		t := &l.s.Catalog.Tables[i]
		x := l.images[t.ID]
		if x == nil || l.ties.lost[t.ID] != "" {
			continue
		}
		why, err := x.differ(ctx, reader, t)
		if err != nil {
			return fmt.Errorf("reading back what the log told of %s: %w", t.ID, err)
		}
		if why != "" {
			l.differs(t, why)
		}
	}
	return nil
}

// differ says in what the rows are others than the log told; empty: in nothing.
func (x *images) differ(ctx context.Context, r engine.KeyReader, t *engine.Table) (why string, err error) {
	var known, unknown, gone []string
	var told rows.Fingerprint
	for _, key := range slices.Sorted(maps.Keys(x.of)) {
		switch i := x.of[key]; {
		case !i.there:
			gone = append(gone, key)
		case i.known:
			known = append(known, key)
			told.AddHash(i.hash)
		default:
			unknown = append(unknown, key)
		}
	}
	var c rows.Counter
	if err := r.ReadKeys(ctx, t, known, &c); err != nil {
		return "", err
	}
	if n := int64(len(known)); c.Rows != n {
		return fmt.Sprintf("of %d rows that were written, %d are there", n, c.Rows), nil
	}
	if c.Sum != told {
		return fmt.Sprintf("some of %d rows that were written have other values", len(known)), nil
	}
	n, err := r.CountKeys(ctx, t, unknown)
	if err != nil || n != int64(len(unknown)) {
		return fmt.Sprintf("of %d rows that were changed, %d are there", len(unknown), n), err
	}
	n, err = r.CountKeys(ctx, t, gone)
	if err != nil || n > 0 {
		return fmt.Sprintf("of %d rows that were removed, %d are there", len(gone), n), err
	}
	return "", nil
}
