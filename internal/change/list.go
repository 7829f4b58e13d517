package change

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"

	"grainkeep/internal/engine"
)

// A list of ranges is a file of lines, one a range: the sum of its rows' hashes, their number, and the key of the last
// one. A list that tells what became of another one has lines besides: how many ranges of that one stay as they are
// ("= 12"), and how many are gone ("- 3"). The last range has no key.

// Between gives the ranges of a span of a table, whose ends are ends of ranges.
func Between(all Ranges, s engine.Span) Ranges {
	begun, over := s.After == "", false
	return func() (Range, error) {
		for !over {
			r, err := all()
			if err != nil {
				return r, err
			}
			if !begun {
				begun = r.End == s.After
				continue
			}
			over = r.End == s.UpTo
			return r, nil
		}
		return Range{}, io.EOF
	}
}

// maxLine bounds a line of a list, in bytes. Engines make no keys that are near it.
const maxLine = 1 << 20

// Ranges gives the ranges of a table one after the other; io.EOF follows the last.
type Ranges func() (Range, error)

// Read reads a list: on top of another one, or a whole one, where that is nil.
func Read(text io.Reader, under Ranges) Ranges {
	in := bufio.NewScanner(text)
	in.Buffer(make([]byte, 0, 4<<10), maxLine)
	l := &reading{in: in, under: under}
	return l.next
}

type reading struct {
	in    *bufio.Scanner
	under Ranges
	stay  int64 // ranges of the other list that are still to be given
}

func (l *reading) next() (Range, error) {
	for l.stay == 0 {
		if !l.in.Scan() {
			return Range{}, l.end()
		}
		line := l.in.Text()
		stays, isStay := strings.CutPrefix(line, "= ")
		gone, isGone := strings.CutPrefix(line, "- ")
		switch {
		case !isStay && !isGone:
			return parse(line)
		case l.under == nil:
			return Range{}, errors.New("it tells what became of another list, and stands for none")
		case isStay:
			n, err := count(stays)
			if err != nil {
				return Range{}, err
			}
			l.stay = n
		default:
			n, err := count(gone)
			for ; err == nil && n > 0; n-- {
				_, err = l.lower()
			}
			if err != nil {
				return Range{}, err
			}
		}
	}
	l.stay--
	return l.lower()
}

// lower is the next range of the list below, which must have one.
func (l *reading) lower() (Range, error) {
	r, err := l.under()
	if err == io.EOF {
		err = errors.New("the list before it has fewer ranges")
	}
	return r, err
}

func (l *reading) end() error {
	if err := l.in.Err(); err != nil {
		return err
	}
	if l.under != nil {
		if _, err := l.under(); err != io.EOF {
			return errors.Join(errors.New("the list before it has more ranges"), err)
		}
	}
	return io.EOF
}

func count(s string) (int64, error) {
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil || n < 0 || n == math.MaxInt64 {
		return 0, fmt.Errorf("%.40q is no number of ranges", s)
	}
	return n, nil
}

func parse(line string) (r Range, err error) {
	sum, rest, _ := strings.Cut(line, " ")
	number, key, _ := strings.Cut(rest, " ")
	if err := r.Sum.AddText(sum); err != nil {
		return r, err
	}
	if r.Rows, err = count(number); err != nil {
		return r, fmt.Errorf("%.40q is no number of rows", number)
	}
	r.End = key
	return r, nil
}

// Writer writes a list: a whole one, or one on top of another. Nothing is written of one on top of another that stays
// as it is, until it is closed.
type Writer struct {
	out   *bufio.Writer
	whole bool
	stay  int64 // ranges that stay and are not written yet
	any   bool  // something was written
}

// NewWriter writes a list to a file.
func NewWriter(w io.Writer, whole bool) *Writer {
	return &Writer{out: bufio.NewWriter(w), whole: whole}
}

// Add writes a range.
func (w *Writer) Add(r Range) error {
	return w.line("%s %d %s\n", r.Sum, r.Rows, r.End)
}

// Stay says that the next range of the other list stays.
func (w *Writer) Stay(r Range) error {
	if w.whole {
		return w.Add(r)
	}
	w.stay++
	return nil
}

// Gone says that so many of the other list's next ranges are gone.
func (w *Writer) Gone(n int64) error {
	if w.whole || n == 0 {
		return nil
	}
	return w.line("- %d\n", n)
}

func (w *Writer) line(format string, args ...any) (err error) {
	w.any = true
	if w.stay > 0 {
		_, err = fmt.Fprintf(w.out, "= %d\n", w.stay)
		w.stay = 0
	}
	if err == nil {
		_, err = fmt.Fprintf(w.out, format, args...)
	}
	return err
}

// Changed says whether anything was written.
func (w *Writer) Changed() bool { return w.any }

// Close writes what is left.
func (w *Writer) Close() (err error) {
	if w.stay > 0 {
		_, err = fmt.Fprintf(w.out, "= %d\n", w.stay)
	}
	if err != nil {
		return err
	}
	return w.out.Flush()
}
