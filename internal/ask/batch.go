package ask

import (
	"sync"

	"grainkeep/internal/engine"
)

// batch are rows on their way from who takes them apart to who inserts them: both work at the same time.
type batch struct {
	cells []engine.Cell // their bytes lie in bytes, one after another
	bytes []byte
}

// Bounds of a batch, and how many there are.
const (
	batchCells = 1 << 11
	batchBytes = 256 << 10
	batches    = 3
)

// inserting inserts rows in a goroutine of its own.
type inserting struct {
	into    engine.TempRows
	columns int
	now     *batch
	full    chan *batch
	free    chan *batch
	ended   sync.WaitGroup
	failed  chan struct{} // closed when err is set
	err     error
}

// insertBeside begins to insert rows of so many columns.
func insertBeside(into engine.TempRows, columns int) *inserting {
	i := &inserting{into: into, columns: columns, full: make(chan *batch, batches), free: make(chan *batch, batches),
		failed: make(chan struct{})}
	for range batches {
		i.free <- &batch{}
	}
	i.now = <-i.free
	i.ended.Go(i.work)
	return i
}

func (i *inserting) work() {
	for b := range i.full {
		rest := b.bytes
		for at := 0; at < len(b.cells) && i.err == nil; at += i.columns {
			row := b.cells[at : at+i.columns]
			for k := range row {
				if c := &row[k]; c.Kind == engine.TextCell || c.Kind == engine.BytesCell {
					c.Data, rest = rest[:c.Int:c.Int], rest[c.Int:]
				}
			}
			if err := i.into.Insert(row); err != nil {
				i.err = err
				close(i.failed)
			}
		}
		b.cells, b.bytes = b.cells[:0], b.bytes[:0]
		i.free <- b
	}
}

// Insert takes a row, and tells why an earlier one could not be inserted.
func (i *inserting) Insert(row []engine.Cell) error {
	b := i.now
	for _, c := range row {
		if c.Kind == engine.TextCell || c.Kind == engine.BytesCell {
			b.bytes = append(b.bytes, c.Data...)
			c.Int, c.Data = int64(len(c.Data)), nil
		}
		b.cells = append(b.cells, c)
	}
	if len(b.cells) < batchCells && len(b.bytes) < batchBytes {
		return nil
	}
	i.full <- b
	i.now = <-i.free
	select {
	case <-i.failed:
		return i.err
	default:
		return nil
	}
}

// Close waits for the last row.
func (i *inserting) Close() error {
	i.full <- i.now
	close(i.full)
	i.ended.Wait()
	return i.err
}
