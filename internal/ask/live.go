package ask

import (
	"context"
	"errors"

	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/manifest"
	"grainkeep/internal/rows"
)

// Live begins to ask questions of a snapshot of a live database, which stays open as long.
func Live(ctx context.Context, snap engine.Snapshot, name string, room int64, feed *event.Feed) (*Session, error) {
	s, err := begin(name, room, feed)
	if err != nil {
		return nil, err
	}
	s.snap = snap
	created := map[string]string{}
	for _, o := range snap.Catalog().Objects {
		if o.Kind == "table" || o.Kind == "foreign table" || o.Kind == "primary key" {
			created[o.OfTable()] += o.SQL
		}
	}
	for _, t := range snap.Catalog().Tables {
		s.add(manifest.Table{ID: t.ID, Schema: t.Schema, Name: t.Name, Columns: t.Columns, Rows: max(0, t.Rows)}, created[t.ID])
	}
	if err := s.nameAll(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

// loadLive loads all rows of a table of the live database.
func (s *Session) loadLive(ctx context.Context, t *table) error {
	if t.columns != nil {
		return nil
	}
	l := newInserts(s.text, t, nil, filter{})
	if err := s.insert(ctx, l, func() error { return s.scanLive(ctx, t, l.row) }); err != nil {
		return err
	}
	t.columns = map[string]bool{}
	for _, c := range t.Columns {
		t.columns[c] = true
	}
	return nil
}

// scanLive gives the rows of a table of the live database.
func (s *Session) scanLive(ctx context.Context, t *table, each func(row []byte) error) error {
	cat := *s.snap.Catalog()
	for _, x := range cat.Tables {
		if x.ID == t.ID {
			cat.Tables = []engine.Table{x}
		}
	}
	cat.Tables[0].Shares = 0 // one reader: there is one place where the rows go
	s.meter.Begin("reading "+t.name, 1, 0)
	_, err := rows.Scan(ctx, rows.Scanning{Snapshot: s.snap, Catalog: &cat, Meter: s.meter, Samples: func(int) int64 { return 0 },
		Sink: func(context.Context, rows.Part, *rows.Counter) (rows.Sink, error) { return &liveRows{each: each}, nil }})
	return err
}

// liveRows takes the rows of a reader; those that come in pieces are put together.
type liveRows struct {
	each func(row []byte) error
	held []byte
}

// Row implements rows.Sink.
func (r *liveRows) Row(piece []byte, more bool) error {
	if more || len(r.held) > 0 {
		if r.held = append(r.held, piece...); len(r.held) > engine.MaxRow {
			return engine.TooLong()
		}
		if more {
			return nil
		}
		piece = r.held
		r.held = r.held[:0]
	}
	return r.each(piece)
}

// End implements rows.Sink.
func (r *liveRows) End(cause error) error { return cause }
