package sqlite

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"math"
	"math/bits"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	lib "modernc.org/sqlite/lib"

	"grainkeep/internal/pattern"
)

var plainName = pattern.Of(`^[A-Za-z_][A-Za-z0-9_]*$`)

// quote writes a name as SQL, in quotes only where it needs them.
func quote(name string) string {
	if plainName().MatchString(name) && !keyword(name) {
		return name
	}
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

// quoteText writes a text value as SQL.
func quoteText(s string) string { return string(appendText(nil, []byte(s))) }

// maxPieces bounds the pieces that a text is concatenated from: the library's
// expressions may be 1000 deep, and each piece is a level.
const maxPieces = 200

// appendText writes a UTF-8 text as an expression on one line: printable text in
// quotes, control characters as char(n). A text that is not valid UTF-8, holds a
// NUL or has too many control characters is cast from its bytes.
func appendText(dst, s []byte) []byte {
	if simple(s) {
		dst = append(dst, '\'')
		dst = append(dst, s...)
		return append(dst, '\'')
	}
	controls, pieces, valid := scanText(s)
	if !valid || pieces > maxPieces {
		return appendCast(dst, s)
	}
	if controls == 0 {
		return appendQuoted(dst, s)
	}
	for first := true; len(s) > 0; first = false {
		if !first {
			dst = append(dst, "||"...)
		}
		n := 0
		if control(s[0]) {
			dst = append(dst, "char("...)
			for ; n < len(s) && control(s[n]); n++ {
				if n > 0 {
					dst = append(dst, ',')
				}
				dst = strconv.AppendUint(dst, uint64(s[n]), 10)
			}
			dst = append(dst, ')')
		} else {
			for n < len(s) && !control(s[n]) {
				n++
			}
			dst = appendQuoted(dst, s[:n])
		}
		s = s[n:]
	}
	return dst
}

// plain are the bytes that stand for themselves in a quoted text.
var plain = func() (t [256]bool) {
	for c := 0x20; c < 0x7f; c++ {
		t[c] = c != '\''
	}
	return t
}()

func simple(s []byte) bool {
	for _, c := range s {
		if !plain[c] {
			return false
		}
	}
	return true
}

func control(c byte) bool { return c < 0x20 || c == 0x7f }

// maxControls bounds the arguments of one char().
const maxControls = 100

func scanText(s []byte) (controls, pieces int, valid bool) {
	run, ascii := 0, true
	for _, c := range s {
		switch {
		case c == 0:
			return 0, 0, false
		case control(c):
			controls++
			if run++; run == 1 {
				pieces += 2
			}
			if run > maxControls {
				return 0, 0, false
			}
		default:
			run = 0
			ascii = ascii && c < 0x80
		}
	}
	return controls, pieces, ascii || utf8.Valid(s)
}

func appendQuoted(dst, s []byte) []byte {
	return append(appendDoubled(append(dst, '\''), s), '\'')
}

// appendDoubled writes a text with its quotes doubled.
func appendDoubled(dst, s []byte) []byte {
	for {
		i := bytes.IndexByte(s, '\'')
		if i < 0 {
			return append(dst, s...)
		}
		dst = append(append(dst, s[:i+1]...), '\'')
		s = s[i+1:]
	}
}

func appendCast(dst, raw []byte) []byte {
	dst = append(dst, "CAST(X'"...)
	dst = hex.AppendEncode(dst, raw)
	return append(dst, "' AS TEXT)"...)
}

// encoding is how a database stores text.
type encoding string

func (e encoding) order() binary.ByteOrder {
	switch e {
	case "UTF-16le":
		return binary.LittleEndian
	case "UTF-16be":
		return binary.BigEndian
	}
	return nil
}

// appendUTF16 writes a text that is stored as UTF-16. A text that UTF-8 cannot
// hold is cast from its bytes, which the database reads in its own encoding.
func appendUTF16(dst, raw []byte, order binary.ByteOrder) []byte {
	units := make([]uint16, len(raw)/2)
	for i := range units {
		units[i] = order.Uint16(raw[2*i:])
	}
	text := []byte(string(utf16.Decode(units)))
	_, pieces, valid := scanText(text)
	if len(raw)%2 == 1 || !valid || pieces > maxPieces || strings.ContainsRune(string(text), utf8.RuneError) {
		return appendCast(dst, raw)
	}
	return appendText(dst, text)
}

// appendReal writes a number so that every version of the library reads back the
// same 64 bits. Releases differ in how well they round decimals, so a decimal is
// used only where even a reading with 60 exact bits comes to the same number;
// elsewhere it is an integer scaled by powers of two, which is always exact.
func appendReal(dst []byte, v float64) []byte {
	if math.IsInf(v, 0) {
		if v < 0 {
			dst = append(dst, '-')
		}
		return append(dst, "9e999"...)
	}
	if v == 0 {
		if math.Signbit(v) {
			return append(dst, "-0.0"...)
		}
		return append(dst, "0.0"...)
	}
	var b [40]byte
	sci := strconv.AppendFloat(b[:0], math.Abs(v), 'e', -1, 64)
	if !plainDecimal(sci, math.Abs(v)) {
		return appendScaled(dst, v)
	}
	start := len(dst)
	dst = strconv.AppendFloat(dst, v, 'g', -1, 64)
	for _, c := range dst[start:] {
		if c == '.' || c == 'e' {
			return dst
		}
	}
	return append(dst, ".0"...)
}

// plainDecimal says whether a decimal (digits and exponent as strconv writes
// them, of a positive number) is far enough from the middle between two floats.
func plainDecimal(sci []byte, v float64) bool {
	var digits uint64
	point, exp, count := -1, 0, 0
	for i, c := range sci {
		if c == '.' {
			point = count
			continue
		}
		if c == 'e' {
			exp, _ = strconv.Atoi(string(sci[i+1:]))
			break
		}
		digits = digits*10 + uint64(c-'0')
		count++
	}
	if point < 0 {
		point = count
	}
	exp -= count - point
	if exp >= 0 {
		hi, lo := digits, uint64(0)
		if exp > 18 {
			return false
		}
		hi, lo = bits.Mul64(digits, pow10(exp))
		if hi == 0 && lo < 1<<53 {
			return true
		}
		if hi == 0 {
			hi, lo = lo, 0
		}
		z := bits.LeadingZeros64(hi)
		return marginOf(hi<<z | lo>>(64-z))
	}
	if exp < -18 || math.Abs(v) < math.SmallestNonzeroFloat64*(1<<53) {
		return false
	}
	d := pow10(-exp)
	// 64 leading bits of digits/d
	num, den := digits<<bits.LeadingZeros64(digits), d<<bits.LeadingZeros64(d)
	q, _ := bits.Div64(num>>1, num<<63, den)
	if q>>63 == 0 {
		q <<= 1 // the lowest bit is lost; the margin allows for it
	}
	return marginOf(q)
}

// marginOf says whether 64 leading bits are clear of the middle between two
// floats, which have 53.
func marginOf(q uint64) bool {
	const middle, margin = 0x400, 0x10
	low := q & 0x7ff
	return low < middle-margin || low > middle+margin
}

func pow10(n int) uint64 {
	p := uint64(1)
	for range n {
		p *= 10
	}
	return p
}

// appendScaled writes mantissa.0*(1<<n) or mantissa.0/(1<<n), with as many
// factors as the exponent needs.
func appendScaled(dst []byte, v float64) []byte {
	frac, exp := math.Frexp(v) // |frac| in [0.5, 1)
	m := int64(frac * (1 << 53))
	exp -= 53
	for m%2 == 0 {
		m /= 2
		exp++
	}
	dst = append(strconv.AppendInt(dst, m, 10), ".0"...)
	op := byte('*')
	if exp < 0 {
		op, exp = '/', -exp
	}
	for exp > 0 {
		n := min(exp, 62)
		dst = append(append(dst, op), "(1<<"...)
		dst = append(strconv.AppendInt(dst, int64(n), 10), ')')
		exp -= n
	}
	return dst
}

// appendValue writes column i of a row as SQL, except blobs and texts too long
// for one piece, which the caller writes.
func appendValue(dst []byte, s *stmt, i int, kind int32, enc encoding) []byte {
	switch kind {
	case lib.SQLITE_INTEGER:
		return strconv.AppendInt(dst, s.int(i), 10)
	case lib.SQLITE_FLOAT:
		return appendReal(dst, s.real(i))
	case lib.SQLITE_TEXT:
		if order := enc.order(); order != nil {
			return appendUTF16(dst, s.raw(i), order)
		}
		return appendText(dst, s.utf8(i))
	case lib.SQLITE_BLOB:
		dst = append(dst, "X'"...)
		dst = hex.AppendEncode(dst, s.raw(i))
		return append(dst, '\'')
	}
	return append(dst, "NULL"...)
}
