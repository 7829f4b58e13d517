package ask

import (
	"context"
	"encoding/binary"
	"slices"

	"github.com/zeebo/xxh3"

	"grainkeep/internal/engine"
)

// rangesOf is how many ranges the rows of a table are divided into, by a hash of their keys.
const rangesOf = 1 << 12

// Digests are sums over the rows of each range of a table: where those of two states agree, so do their rows.
type Digests struct {
	sums [rangesOf]xxh3.Uint128
	Rows int64
}

// Digests reads the rows of a table and gives their digests; nil: the rows do not lie in one place.
func (s *Session) Digests(ctx context.Context, id string, columns, by []string) (*Digests, error) {
	t := s.byID[id]
	if len(t.layers) > 1 {
		return nil, nil
	}
	d := &Digests{}
	h := newRowHash(t, columns, by)
	each := func(row []byte) (err error) {
		if h.values, err = h.cutter(s.text).Cut(h.values[:0], row); err != nil {
			return err
		}
		sum := &d.sums[h.place(h.values)]
		x := h.sum(h.values)
		low := sum.Lo + x.Lo
		sum.Hi += x.Hi
		if low < x.Lo {
			sum.Hi++
		}
		sum.Lo = low
		d.Rows++
		return nil
	}
	if s.snap != nil {
		return d, s.scanLive(ctx, t, each)
	}
	return d, s.scan(ctx, t.layers[0], each)
}

// Only says that just the rows of ranges that differ are to be loaded from now on.
func (s *Session) Only(ctx context.Context, id string, columns, by []string, was, is *Digests) error {
	t := s.byID[id]
	h := newRowHash(t, columns, by)
	t.only = func(values []engine.Value) bool {
		n := h.place(values)
		return was.sums[n] != is.sums[n]
	}
	return s.make(ctx, t)
}

// rowHash makes digests of rows.
type rowHash struct {
	key, all []int
	text     []byte
	values   []engine.Value
	cut      *engine.RowCutter
}

func newRowHash(t *table, columns, by []string) *rowHash {
	h := &rowHash{}
	for _, c := range by {
		h.key = append(h.key, slices.Index(t.Columns, c))
	}
	for _, c := range columns {
		h.all = append(h.all, slices.Index(t.Columns, c))
	}
	return h
}

func (h *rowHash) cutter(text engine.RowText) *engine.RowCutter {
	if h.cut == nil {
		h.cut = text.Cutter()
	}
	return h.cut
}

// joined is a text that no other values have.
func (h *rowHash) joined(values []engine.Value, at []int) []byte {
	h.text = h.text[:0]
	for _, i := range at {
		h.text = append(binary.AppendUvarint(append(h.text, byte(values[i].Kind)), uint64(len(values[i].Data))), values[i].Data...)
	}
	return h.text
}

func (h *rowHash) place(values []engine.Value) uint64 {
	return xxh3.Hash(h.joined(values, h.key)) % rangesOf
}

func (h *rowHash) sum(values []engine.Value) xxh3.Uint128 {
	return xxh3.Hash128(h.joined(values, h.all))
}
