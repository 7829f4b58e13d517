package files

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/zeebo/xxh3"
)

// Line is what an index says of an entry: enough to know later, without reading it, whether it is still the same.
type Line struct {
	Name   string
	Kind   Kind
	Size   int64  // bytes
	Time   int64  // of the last change of its content, nanoseconds since 1970
	Change int64  // of the last change of anything about it, the same
	Inode  uint64 // 0: times cannot be relied on, because it was just being changed
	Sum    xxh3.Uint128
	Bare   xxh3.Uint128 // without owner and attributes
}

// maxLine bounds a line of an index.
const maxLine = maxName + 256 // bytes

// append writes a line: fields with spaces between, the name last, which may hold anything but the zero that ends it.
func (l Line) append(b []byte) []byte {
	b = append(b, letters[l.Kind])
	for _, n := range []int64{l.Size, l.Time, l.Change} {
		b = strconv.AppendInt(append(b, ' '), n, 10)
	}
	b = strconv.AppendUint(append(b, ' '), l.Inode, 10)
	b = fmt.Appendf(b, " %016x%016x %016x%016x ", l.Sum.Hi, l.Sum.Lo, l.Bare.Hi, l.Bare.Lo)
	return append(append(b, l.Name...), 0)
}

var letters = map[Kind]byte{File: 'f', Folder: 'd', Link: 'l', HardLink: 'h', Pipe: 'p'}

// parseLine reads a line without its ending. An index is not trusted.
func parseLine(text string) (l Line, err error) {
	part := strings.SplitN(text, " ", 8)
	if len(part) != 8 || len(part[0]) != 1 {
		return l, fmt.Errorf("a line of the index is none: %.80q", text)
	}
	for k, letter := range letters {
		if letter == part[0][0] {
			l.Kind = k
		}
	}
	var errs [6]error
	l.Size, errs[0] = strconv.ParseInt(part[1], 10, 64)
	l.Time, errs[1] = strconv.ParseInt(part[2], 10, 64)
	l.Change, errs[2] = strconv.ParseInt(part[3], 10, 64)
	l.Inode, errs[3] = strconv.ParseUint(part[4], 10, 64)
	l.Sum, errs[4] = parseSum(part[5])
	l.Bare, errs[5] = parseSum(part[6])
	l.Name = part[7]
	if err := errors.Join(append(errs[:], checkName(l.Name))...); err != nil || l.Kind == "" || l.Size < 0 {
		return l, fmt.Errorf("a line of the index is none: %.80q", text)
	}
	return l, nil
}

func parseSum(text string) (u xxh3.Uint128, err error) {
	if len(text) != 32 {
		return u, errors.New("no fingerprint")
	}
	if u.Hi, err = strconv.ParseUint(text[:16], 16, 64); err == nil {
		u.Lo, err = strconv.ParseUint(text[16:], 16, 64)
	}
	return u, err
}

// before says how names come in a walk: a folder, what is in it, and then its neighbours.
func before(a, b string) int {
	if a == "." || b == "." {
		return strings.Compare(dotFirst(a), dotFirst(b))
	}
	n := min(len(a), len(b))
	for i := range n {
		if a[i] != b[i] {
			return int(low(a[i])) - int(low(b[i]))
		}
	}
	return len(a) - len(b)
}

func dotFirst(name string) string {
	if name == "." {
		return ""
	}
	return name
}

// low is a byte of a name, with the slash below all others.
func low(c byte) byte {
	if c == '/' {
		return 0
	}
	return c
}

// texts reads texts that end in zeros.
type texts struct{ s *bufio.Scanner }

func newTexts(r io.Reader) texts {
	s := bufio.NewScanner(r)
	s.Buffer(make([]byte, 0, 64<<10), maxLine)
	s.Split(func(data []byte, atEnd bool) (int, []byte, error) {
		if i := slices.Index(data, 0); i >= 0 {
			return i + 1, data[:i], nil
		}
		if atEnd && len(data) > 0 {
			return 0, nil, errors.New("it ends in the middle")
		}
		return 0, nil, nil
	})
	return texts{s}
}

// next gives the next text; false at the end.
func (t texts) next() (string, bool, error) {
	if t.s.Scan() {
		return t.s.Text(), true, nil
	}
	return "", false, t.s.Err()
}
