package rows

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math/bits"

	"github.com/zeebo/xxh3"
)

// FingerprintVersion names the algorithm in manifests: the 128-bit XXH3 hash of
// each row's text, without its line ending, summed modulo 2^128.
const FingerprintVersion = "xxh3-128-sum/1"

// Fingerprint is the sum of the hashes of a table's rows. It does not depend on
// the order in which rows come.
type Fingerprint struct{ hi, lo uint64 }

// AddRow adds one row's text.
func (f *Fingerprint) AddRow(row []byte) { f.AddHash(xxh3.Hash128(row)) }

// AddHash adds the hash of one row.
func (f *Fingerprint) AddHash(h xxh3.Uint128) {
	var carry uint64
	f.lo, carry = bits.Add64(f.lo, h.Lo, 0)
	f.hi, _ = bits.Add64(f.hi, h.Hi, carry)
}

// Since is what was added after an earlier state.
func (f Fingerprint) Since(before Fingerprint) (d Fingerprint) {
	var borrow uint64
	d.lo, borrow = bits.Sub64(f.lo, before.lo, 0)
	d.hi, _ = bits.Sub64(f.hi, before.hi, borrow)
	return d
}

// AddText adds a fingerprint that String wrote.
func (f *Fingerprint) AddText(s string) error {
	b, err := hex.DecodeString(s)
	if err != nil || len(b) != 16 {
		return fmt.Errorf("%q is not a fingerprint", s)
	}
	f.AddHash(xxh3.Uint128{Hi: binary.BigEndian.Uint64(b), Lo: binary.BigEndian.Uint64(b[8:])})
	return nil
}

// String gives 32 hexadecimal digits.
func (f Fingerprint) String() string {
	var b [16]byte
	for i := range 8 {
		b[i] = byte(f.hi >> (56 - 8*i))
		b[8+i] = byte(f.lo >> (56 - 8*i))
	}
	return hex.EncodeToString(b[:])
}

// Counter is a Rows that keeps the count and the fingerprint and throws the text
// away: what a drill reads back with.
type Counter struct {
	Sum    Fingerprint
	Rows   int64
	Bytes  int64
	Values Fingerprint  // of what is beside the rows
	Has    bool         // there is something beside them
	long   *xxh3.Hasher // the hash of a row that came in pieces so far
}

// Add adds the rows of another part of the same table.
func (c *Counter) Add(o *Counter) {
	c.Sum.AddHash(xxh3.Uint128{Hi: o.Sum.hi, Lo: o.Sum.lo})
	c.Values.AddHash(xxh3.Uint128{Hi: o.Values.hi, Lo: o.Values.lo})
	c.Has = c.Has || o.Has
	c.Rows += o.Rows
	c.Bytes += o.Bytes
}

// Generated is the fingerprint of the generated values; empty, where there are none.
func (c *Counter) Generated() string {
	if !c.Has {
		return ""
	}
	return c.Values.String()
}

// Beside implements engine.Rows.
func (c *Counter) Beside(values []byte) {
	c.Values.AddRow(values)
	c.Has = true
}

// Row implements engine.Rows.
func (c *Counter) Row(p []byte, more bool) error {
	c.Bytes += int64(len(p))
	if !more && c.long == nil {
		c.Sum.AddRow(p)
		c.Rows++
		return nil
	}
	if c.long == nil {
		c.long = xxh3.New()
	}
	c.long.Write(p)
	if !more {
		c.Sum.AddHash(c.long.Sum128())
		c.long = nil
		c.Rows++
	}
	return nil
}
