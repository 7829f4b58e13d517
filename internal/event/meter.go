package event

import (
	"sync/atomic"
)

// Meter follows long work. One side adds, another may read at any time.
type Meter struct {
	Pieces   atomic.Int64 // to do: tables, parts of tables, objects, files
	Done     atomic.Int64
	Rows     atomic.Int64
	Bytes    atomic.Int64 // of text
	Expected atomic.Int64 // estimate of Bytes at the end; 0: unknown
	step     atomic.Pointer[string]
}

// Begin starts a step of the work, with everything at zero.
func (m *Meter) Begin(step string, pieces int, bytes int64) {
	m.Pieces.Store(int64(pieces))
	m.Done.Store(0)
	m.Rows.Store(0)
	m.Bytes.Store(0)
	m.Expected.Store(bytes)
	m.step.Store(&step)
}

// Step is what is being done.
func (m *Meter) Step() string {
	if s := m.step.Load(); s != nil {
		return *s
	}
	return ""
}
