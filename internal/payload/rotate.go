package payload

import (
	"context"
	"fmt"

	"grainkeep/internal/engine"
	"grainkeep/internal/manifest"
	"grainkeep/internal/rows"
)

// A rotating witness: each increment from a log reads some tables whole, touched or not, and holds them against what the
// chain says that they have. Which ones goes round with the increments, so that in some number of them every table that
// is small enough was looked at. Larger ones are compared whole by each differential, and read by each full; and at once,
// where something speaks against the log.
const (
	mostWitnessed = 20_000  // rows that are read in an increment
	mostCounted   = 500_000 // rows that the server counts in it
)

// rotate reads and counts tables, as far as the bounds allow.
func (l *logged) rotate(ctx context.Context, reader engine.KeyReader, from engine.Position) (err error) {
	n := len(l.s.Catalog.Tables)
	read, counted := int64(0), int64(0)
	for i := range n {
		t := &l.s.Catalog.Tables[(i+len(l.s.Base))%n]
		x := l.of[t.ID]
		if x == nil || l.ties.lost[t.ID] != "" {
			continue
		}
		says := l.s.past[t.ID]
		if told := x.told[t.ID]; told.changed() {
			says = told.of(says)
		}
		if why := l.doubt(t, x.told[t.ID]); why != "" {
			if says.Sum == "" || says.About { // there is nothing to hold it against
				l.ties.lose(t.ID, why)
			} else if err = l.witness(ctx, reader, t, says); err != nil {
				return fmt.Errorf("looking at %s: %w", t.ID, err)
			}
			continue
		}
		if says.About || counted+says.Rows > mostCounted {
			continue
		}
		counted += says.Rows
		if err = l.count(ctx, reader, t, says.Rows, from); err == nil && read+says.Rows <= mostWitnessed {
			read += says.Rows
			err = l.witness(ctx, reader, t, says)
		}
		if err != nil {
			return fmt.Errorf("looking at %s: %w", t.ID, err)
		}
	}
	return nil
}

// doubt says why a table is to be looked at whatever that costs; empty: nothing speaks for it.
func (l *logged) doubt(t *engine.Table, told *told) string {
	if l.audit != "" {
		return l.audit
	}
	base := l.s.Base[len(l.s.Base)-1].Manifest.Moment
	if at := t.Written; !told.changed() && at.Unix() > base.Unix() && !at.After(l.moment) {
		return "the server says that it was written to since, and the log tells nothing of it"
	}
	return ""
}

// witness reads a table whole.
func (l *logged) witness(ctx context.Context, r engine.Reader, t *engine.Table, says manifest.Table) error {
	c := &rows.Counter{}
	if err := r.Read(ctx, t, engine.Part{}, c); err != nil {
		return err
	}
	if says.Sum != "" && c.Sum.String() != says.Sum {
		l.differs(t, "it has other values")
		return nil
	}
	l.seen[t.ID] = c
	return nil
}

// count has the server count the rows of a table, and those that were written since the base.
func (l *logged) count(ctx context.Context, r engine.KeyReader, t *engine.Table, want int64, from engine.Position) error {
	all, since, err := r.CountSince(ctx, t, from)
	if err != nil {
		return err
	}
	if all != want {
		l.differs(t, fmt.Sprintf("it has %d rows, and is to have %d", all, want))
		return nil
	}
	if n, whole := l.images[t.ID].written(); whole && since >= 0 && since != n {
		l.differs(t, fmt.Sprintf("of its rows %d were written since, and the log told of %d", since, n))
	}
	return nil
}

// differs says that a table is not as the log told.
func (l *logged) differs(t *engine.Table, how string) {
	if l.ties.lost[t.ID] != "" {
		return
	}
	l.ties.lose(t.ID, "what the log told of it is not what it has: "+how)
	l.s.Differ = append(l.s.Differ, t.ID)
}
