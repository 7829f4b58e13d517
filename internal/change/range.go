// Package change knows what of a database has changed: by comparison. A table's rows, in the order of its key, are
// cut into ranges; two lists of ranges tell which rows are to be written again.
package change

import (
	"math"

	"github.com/zeebo/xxh3"

	"grainkeep/internal/rows"
)

// Range is rows that follow each other in the order of a table's key.
type Range struct {
	End  string // the key of the last one; empty: the last range, which has no end
	Rows int64
	Sum  rows.Fingerprint
}

// same says whether two ranges with the same end hold the same rows.
func (r Range) same(o Range) bool { return r.Rows == o.Rows && r.Sum == o.Sum }

// Sizes of ranges, in bytes of rows' text. Small ones write little around a change, and their digests take room: one
// of 16 bytes and a key for each.
const (
	rangeMin  = 2 << 10
	rangeGoal = 16 << 10
	rangeMax  = 128 << 10
)

// Cutter decides where ranges end: by the keys of the rows, so that rows that come or go move no end but those around
// them.
type Cutter struct{ bytes int64 }

// Cut is told of a row, its key and the length of its text in bytes, and says whether a range ends with it. A row
// without a key ends none.
func (c *Cutter) Cut(key []byte, length int64) bool {
	c.bytes += length
	switch {
	case len(key) == 0:
		return false
	case c.bytes < rangeMin:
		return false
	case c.bytes < rangeMax && float64(xxh3.Hash(key)) >= float64(length)*(math.MaxUint64/rangeGoal):
		return false
	}
	c.bytes = 0
	return true
}
