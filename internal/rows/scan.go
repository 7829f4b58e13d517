package rows

import (
	"context"
	"slices"
	"sort"
	"sync/atomic"
	"time"

	"grainkeep/internal/engine"
	"grainkeep/internal/event"
)

// Sink takes the rows of one table, or of a part of it.
type Sink interface {
	Row(piece []byte, more bool) error
	// End follows the last row. The cause is why there are no more, if not all came.
	End(cause error) error
}

// KeyedSink is a Sink of rows that come in the order of their table's key.
type KeyedSink interface {
	Sink
	// Key is told of each row's key, before the row.
	Key(text []byte)
	// Again follows End, and may read rows of the table once more.
	Again(ctx context.Context, from engine.Ordered) error
}

// maxReaders bounds the readers, and with them the memory.
const maxReaders = 8

// Part is what one reader reads as one: blocks of a table, or a span of its key.
type Part struct {
	Table  int
	Number int // among those of the table
	Blocks engine.Part
	Span   engine.Span
}

// part is a part that is read.
type part struct {
	of     Part
	bytes  int64 // estimate of its text
	expect int64 // estimate of its rows; 0: none
	rows   Counter
	says   *engine.Witness // of the first part of a table
}

// Found is what a scan found of a table.
type Found struct {
	Counter
	Witness *engine.Witness
}

// Scanning is what to read, and what becomes of it.
type Scanning struct {
	Snapshot engine.Snapshot
	Catalog  *engine.Catalog
	Meter    *event.Meter
	// Samples tells of how many rows of a table the server is to make a digest.
	Samples func(table int) int64
	// Sink is asked for each part of a table, and told what will count its rows; nil: they are counted and thrown away.
	Sink func(ctx context.Context, of Part, c *Counter) (Sink, error)
	// Spans are the parts of a table that is read in the order of its key; nil: tables are read as they lie. The sinks
	// are then KeyedSinks.
	Spans func(table int) []engine.Span
	// Take says what of a table is wanted; nil: all of it.
	Take    func(table int) Take
	Silence time.Duration // longest time without a row; 0: for ever
}

// Take is what of a table is wanted.
type Take int

// What can be wanted of a table.
const (
	All     Take = iota
	Witness      // what the server says of it, and no rows
	Nothing
)

// Scan reads every table of a snapshot, the largest parts first, by as many readers
// as are useful. It gives each table's count and fingerprint, and what the server itself
// says of it.
func Scan(ctx context.Context, s Scanning) ([]Found, error) {
	var beats atomic.Int64
	ctx, stop := listening(ctx, s.Silence, &beats)
	defer stop()
	tables, meter := s.Catalog.Tables, s.Meter
	var parts []*part
	var expected int64
	take := func(table int) Take { return All }
	if s.Take != nil {
		take = s.Take
	}
	for i, t := range tables {
		split := []Part{}
		if take(i) == Nothing {
			continue
		}
		if take(i) == Witness {
			parts = append(parts, &part{of: Part{Table: i}})
			continue
		}
		if s.Spans != nil {
			for _, span := range s.Spans(i) {
				split = append(split, Part{Span: span})
			}
		} else {
			for _, blocks := range t.Split() {
				split = append(split, Part{Blocks: blocks})
			}
		}
		n := int64(len(split))
		for k, of := range split {
			of.Table, of.Number = i, k
			parts = append(parts, &part{of: of, bytes: t.Bytes / n, expect: max(0, t.Rows/n)})
			expected += t.Bytes / n
		}
	}
	meter.Expected.Store(expected)
	order := slices.Clone(parts)
	sort.SliceStable(order, func(a, b int) bool { return order[a].bytes > order[b].bytes })
	meter.Pieces.Store(int64(len(order)))
	err := InParallel(ctx, min(s.Snapshot.Width(), maxReaders), order, func(ctx context.Context,
		next func() (*part, bool)) error {
		reader, err := s.Snapshot.Reader(ctx)
		if err != nil {
			return err
		}
		defer reader.Close()
		for p, ok := next(); ok; p, ok = next() {
			t := &tables[p.of.Table]
			if take(p.of.Table) == All {
				if err := p.read(ctx, reader, t, &s, &beats); err != nil {
					return err
				}
			}
			if p.of.Number == 0 {
				says, err := reader.Witness(ctx, t, s.Samples(p.of.Table))
				if err != nil {
					return err
				}
				p.says = &says
			}
			beats.Add(1)
			meter.Done.Add(1)
		}
		return nil
	})
	found := make([]Found, len(tables))
	for _, p := range parts {
		found[p.of.Table].Add(&p.rows)
		if p.of.Number == 0 {
			found[p.of.Table].Witness = p.says
		}
	}
	return found, err
}

func (p *part) read(ctx context.Context, reader engine.Reader, t *engine.Table, s *Scanning,
	beats *atomic.Int64) (err error) {
	m := metered{part: p, rows: &p.rows, meter: s.Meter, beats: beats}
	if s.Sink != nil {
		if m.sink, err = s.Sink(ctx, p.of, &p.rows); err != nil {
			return err
		}
	}
	ordered, _ := reader.(engine.Ordered)
	if s.Spans != nil {
		err = ordered.ReadSpan(ctx, t, p.of.Span, &m)
	} else {
		err = reader.Read(ctx, t, p.of.Blocks, &m)
	}
	if err == nil {
		p.expect = p.rows.Rows
		m.report()
	}
	if m.sink != nil {
		err = m.sink.End(err)
	}
	if again, ok := m.sink.(KeyedSink); ok && s.Spans != nil && err == nil {
		err = again.Again(ctx, ordered)
	}
	return err
}

// metered counts rows on their way, and reports them now and then.
type metered struct {
	part     *part
	rows     *Counter
	sink     Sink
	meter    *event.Meter
	beats    *atomic.Int64
	reported struct{ rows, bytes int64 }
}

const reportEvery = 256 << 10 // bytes

func (m *metered) Beside(values []byte) { m.rows.Beside(values) }

// Key implements engine.KeyedRows.
func (m *metered) Key(text []byte) {
	if k, ok := m.sink.(KeyedSink); ok {
		k.Key(text)
	}
}

func (m *metered) Row(p []byte, more bool) error {
	if err := m.rows.Row(p, more); err != nil {
		return err
	}
	m.beats.Add(1)
	if m.rows.Bytes-m.reported.bytes >= reportEvery {
		m.report()
	}
	if m.sink == nil {
		return nil
	}
	return m.sink.Row(p, more)
}

// learn corrects the estimate of the part's text by the rows seen so far: how much
// text a table makes can be far from what it takes on the server's disk.
func (m *metered) learn() {
	p := m.part
	better := m.rows.Bytes
	if p.expect > m.rows.Rows && m.rows.Rows > 0 {
		better = int64(float64(better) * float64(p.expect) / float64(m.rows.Rows))
	} else if p.expect == 0 && m.rows.Rows > 0 {
		better = max(better, p.bytes) // nothing is known of its rows
	}
	m.meter.Expected.Add(better - p.bytes)
	p.bytes = better
}

func (m *metered) report() {
	m.meter.Rows.Add(m.rows.Rows - m.reported.rows)
	m.meter.Bytes.Add(m.rows.Bytes - m.reported.bytes)
	m.reported.rows, m.reported.bytes = m.rows.Rows, m.rows.Bytes
	m.learn()
}
