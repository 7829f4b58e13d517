package mask

import (
	"bytes"
	"crypto/aes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"hash"
	"math"
	"math/rand/v2"
	"strconv"
	"time"
	"unicode"
	"unicode/utf8"

	"grainkeep/internal/engine"
)

// stream is a sequence of bytes that depends on a key and a value alone.
type stream struct {
	from *rand.ChaCha8
	left uint64
	n    int // bytes in it
}

// of begins the stream of a value; the use keeps the streams of one value for different masks apart.
func (s *Set) of(use string, value []byte) *stream {
	mac := s.macs.Get().(hash.Hash)
	defer s.macs.Put(mac)
	mac.Reset()
	mac.Write(append(append(make([]byte, 0, 64), use...), 0))
	mac.Write(value)
	var seed [sha256.Size]byte
	mac.Sum(seed[:0])
	return &stream{from: rand.NewChaCha8(seed)}
}

func (s *stream) next() byte {
	if s.n == 0 {
		s.left, s.n = s.from.Uint64(), 8
	}
	b := byte(s.left)
	s.left >>= 8
	s.n--
	return b
}

// below is an evenly distributed number below n, which is at most 256.
func (s *stream) below(n int) int {
	for {
		if b := int(s.next()); b < 256/n*n {
			return b % n
		}
	}
}

// wide is an evenly distributed number below n.
func (s *stream) wide(n uint64) uint64 {
	for {
		if x := s.from.Uint64(); x < math.MaxUint64/n*n {
			return x % n
		}
	}
}

// hash is the keyed hash for a column; nil: its type has none.
func (s *Set) hash(d engine.Column) func(engine.Value) engine.Value {
	switch d.Class {
	case engine.Integer:
		return s.integer(d)
	case engine.Texts:
		length := 2 * 16
		if d.Limit > 0 {
			length = min(length, d.Limit)
		}
		return func(v engine.Value) engine.Value {
			var b [16]byte
			x := s.of("hash", v.Data)
			for i := range b {
				b[i] = x.next()
			}
			v.Data = []byte(hex.EncodeToString(b[:]))[:length]
			return v
		}
	case engine.UUID, engine.Binary:
		return s.madeUp(d)
	}
	return nil
}

// madeUp makes a value of the same form; nil: the form of the type's values is not known.
func (s *Set) madeUp(d engine.Column) func(engine.Value) engine.Value {
	switch d.Class {
	case engine.Integer:
		return s.integer(d)
	case engine.Decimal, engine.Real:
		return s.another(digitsOf)
	case engine.Texts:
		return func(v engine.Value) engine.Value { return s.madeUpText(v, d.Limit) }
	case engine.Date:
		return s.another(shifted)
	case engine.UUID:
		return s.another(hexOf)
	case engine.Binary:
		return s.another(func(x *stream, v engine.Value) []byte {
			if s.text.Copied {
				return append([]byte(`\x`), hexOf(x, engine.Value{Data: bytes.TrimPrefix(v.Data, []byte(`\x`))})...)
			}
			made := make([]byte, len(v.Data))
			for i := range made {
				made[i] = x.next()
			}
			return made
		})
	}
	return nil
}

// another makes a value that is another one, if the form has more than one.
func (s *Set) another(make func(*stream, engine.Value) []byte) func(engine.Value) engine.Value {
	return func(v engine.Value) engine.Value {
		x := s.of("made-up", v.Data)
		made := make(x, v)
		for range 8 {
			if !bytes.Equal(made, v.Data) {
				break
			}
			made = make(x, v)
		}
		v.Data = made
		return v
	}
}

// digitsOf puts other digits in the place of a number's: as many, with the sign and the point where they are. What
// follows an e stays.
func digitsOf(x *stream, v engine.Value) []byte {
	made := bytes.Clone(v.Data)
	first := true
	for i, c := range made {
		switch {
		case c == 'e' || c == 'E' || c == 'N' || c == 'I': // NaN, Infinity
			return made
		case c < '0' || c > '9':
		case first && c == '0':
		case first:
			made[i], first = byte('1'+x.below(9)), false
		default:
			made[i] = byte('0' + x.below(10))
		}
	}
	return made
}

func hexOf(x *stream, v engine.Value) []byte {
	made := bytes.Clone(v.Data)
	for i, c := range made {
		if c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F' {
			made[i] = "0123456789abcdef"[x.below(16)]
		}
	}
	return made
}

// mostDays is how far a date moves, in days.
const mostDays = 180

// shifted moves a day, and leaves the time of it. What is none, such as infinity, stays.
func shifted(x *stream, v engine.Value) []byte {
	const day = time.DateOnly
	if len(v.Data) < len(day) {
		return v.Data
	}
	t, err := time.Parse(day, string(v.Data[:len(day)]))
	if err != nil {
		return v.Data
	}
	days := int(x.wide(2*mostDays)) - mostDays
	if days >= 0 {
		days++
	}
	return append([]byte(t.AddDate(0, 0, days).Format(day)), v.Data[len(day):]...)
}

// integer gives each integer another one with as many digits: different ones stay different.
func (s *Set) integer(d engine.Column) func(engine.Value) engine.Value {
	most := uint64(math.MaxInt64)
	if d.Limit > 0 && d.Limit < 64 {
		most = 1<<(d.Limit-1) - 1
	}
	return func(v engine.Value) engine.Value {
		text, minus := bytes.CutPrefix(v.Data, []byte("-"))
		n, err := strconv.ParseUint(string(text), 10, 64)
		if err != nil || n > most { // more than the type is said to hold
			return s.another(digitsOf)(v)
		}
		low, high := uint64(0), uint64(9)
		for n > high {
			low = high + 1
			if high > (math.MaxUint64-9)/10 {
				high = math.MaxUint64
				break
			}
			high = high*10 + 9
		}
		high = min(high, most)
		made := strconv.FormatUint(low+s.permuted(n-low, high-low+1), 10)
		if minus {
			made = "-" + made
		}
		v.Data = []byte(made)
		return v
	}
}

// feistelRounds are more than the four that make a permutation look like any other to who may choose its values.
const feistelRounds = 6

// permuted gives each number below n another place below n: a Feistel network over the next power of four, walked until
// it comes back below n.
func (s *Set) permuted(x, n uint64) uint64 {
	half := 1
	for half < 32 && uint64(1)<<(2*half) < n {
		half++
	}
	low := uint64(1)<<half - 1
	for {
		left, right := x>>half, x&low
		for round := range byte(feistelRounds) {
			var b [aes.BlockSize]byte
			b[0], b[1] = round, byte(half)
			binary.BigEndian.PutUint64(b[8:], right)
			s.block.Encrypt(b[:], b[:])
			left, right = right, left^(binary.BigEndian.Uint64(b[:])&low)
		}
		if x = left<<half | right; x < n {
			return x
		}
	}
}

// madeUpText puts other letters and digits in the place of those of a text. A mail address leads nowhere; a card
// number has its check digit; a date stays one.
func (s *Set) madeUpText(v engine.Value, limit int) engine.Value {
	switch {
	case isMail(v.Data):
		return s.another(func(x *stream, v engine.Value) []byte { return mail(x, v.Data, limit) })(v)
	case isCard(v.Data):
		return s.another(func(x *stream, v engine.Value) []byte { return card(x, v.Data) })(v)
	case startsWithDate(v.Data):
		return s.another(shifted)(v)
	}
	return s.another(func(x *stream, v engine.Value) []byte { return letters(x, v.Data) })(v)
}

// letters puts other letters and digits in the place of those of a text. Beyond ASCII a letter becomes one of ASCII.
func letters(x *stream, text []byte) []byte {
	made := make([]byte, 0, len(text))
	for len(text) > 0 {
		r, size := utf8.DecodeRune(text)
		switch {
		case r >= '0' && r <= '9':
			made = append(made, byte('0'+x.below(10)))
		case unicode.IsUpper(r):
			made = append(made, byte('A'+x.below(26)))
		case unicode.IsLetter(r) || r == utf8.RuneError || unicode.IsDigit(r):
			made = append(made, byte('a'+x.below(26)))
		default:
			made = append(made, text[:size]...)
		}
		text = text[size:]
	}
	return made
}

// nowhere is the domain that no mail is ever delivered to (RFC 2606).
const nowhere = ".invalid"

func mail(x *stream, text []byte, limit int) []byte {
	local, domain, _ := bytes.Cut(text, []byte("@"))
	label, _, _ := bytes.Cut(domain, []byte("."))
	made := append(append(letters(x, local), '@'), letters(x, label)...)
	if limit > 0 && len(made)+len(nowhere) > limit { // characters are bytes here: all is ASCII but what stays
		return append(letters(x, local), append([]byte{'@'}, letters(x, domain)...)...)
	}
	return append(made, nowhere...)
}

func card(x *stream, text []byte) []byte {
	made := letters(x, text)
	last := bytes.LastIndexAny(made, "0123456789")
	for c := byte('0'); c <= '9'; c++ {
		if made[last] = c; luhn(made) {
			break
		}
	}
	return made
}
