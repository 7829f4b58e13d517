package restore

import (
	"context"
	"fmt"
	"io"
	"maps"
	"slices"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/mask"
	"grainkeep/internal/payload"
	"grainkeep/internal/rows"
)

// replay brings the rows of tables from where they were read last to the chain's end, or to the transaction at which
// the plan stops, by what the server's log told. Lanes have nothing to do with each other: they are replayed side by
// side.
func (l *loader) replay(ctx context.Context) error {
	lanes, err := l.parts.Streams(l.layers)
	if err != nil || len(lanes) == 0 {
		return err
	}
	files := 0
	for _, lane := range lanes {
		for _, x := range lane {
			files += len(x.Of.Files)
		}
	}
	l.meter.Begin(fmt.Sprintf("restoring %s: transactions", l.m.Database), files, 0)
	width, _ := l.t.Width()
	return rows.InParallel(ctx, width, lanes, func(ctx context.Context, next func() ([]payload.Transactions, bool)) error {
		s, err := l.t.Session(ctx)
		if err != nil {
			return err
		}
		defer s.Close()
		r, can := s.(engine.Replayer)
		if !can {
			return fault.New("log-foreign", nil, "a dump of the chain holds transactions, and this target cannot replay them")
		}
		for lane, ok := next(); ok; lane, ok = next() {
			for _, x := range lane {
				if err := l.stream(ctx, r, x); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// stopInside looks whether the tables can be given as they were inside the last dump, where the plan stops there.
func (l *loader) stopInside() error {
	if l.plan.Stop == nil {
		return nil
	}
	wanted := map[string]bool{}
	for _, t := range l.tables {
		wanted[t.ID] = true
	}
	if why := l.plan.Reaches(wanted); why != "" {
		return fault.New("moment-unreachable", nil, "that moment of %s lies between two dumps, and cannot be had for all "+
			"its tables: %s", l.d.Name(), why).Advise("choose tables of which the log tells (--only), or take the end of a dump")
	}
	l.stop = l.plan.Stop.After.Number
	return nil
}

// replayed replays the text of a file.
func (l *loader) replayed(ctx context.Context, s engine.Replayer, text io.Reader, which engine.Which) (int64, error) {
	t, err := s.Replay(ctx, text, which, func(n int64) { l.meter.Rows.Add(n) })
	if err == nil { // what is left of the file is read too: its digest counts
		_, err = io.Copy(io.Discard, text)
	}
	if which.Until > 0 {
		l.mu.Lock()
		l.out.Rows += t.Inserted - t.Removed
		l.mu.Unlock()
	}
	return t.All(), err
}

// stream replays what one dump has of a stream.
func (l *loader) stream(ctx context.Context, s engine.Replayer, x payload.Transactions) error {
	which := engine.Which{Joined: l.joined}
	if x.Last {
		which.Until = l.stop
	}
	if len(x.Rows) < len(x.Of.Tables) {
		which.Only = slices.Collect(maps.Keys(x.Rows))
	}
	var want, got int64
	for _, n := range x.Rows {
		want += n
	}
	for _, path := range x.Of.Files {
		n, err := l.text(ctx, x.Files, path, func(text io.Reader) (int64, error) {
			return l.masked(text, func(m *mask.Set, text io.Reader) io.ReadCloser { return m.Changes(x.Of.Tables, text) },
				func(text io.Reader) (int64, error) { return l.replayed(ctx, s, text, which) })
		})
		if err != nil {
			return err
		}
		got += n
		l.meter.Done.Add(1)
	}
	if got != want && which.Until == 0 {
		return fault.New("rows-missing", nil, "the transactions of %s changed %d rows, and the dump has %d changes",
			x.Of.Tables[0], got, want)
	}
	return nil
}
