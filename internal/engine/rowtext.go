package engine

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"

	"grainkeep/internal/fault"
)

// MaxRow bounds a row that is taken apart, in bytes of its text.
const MaxRow = 32 << 20

// LongRow is the code of the error that says that a row is too long to be taken apart.
const LongRow = "row-too-long"

// TooLong is that error.
func TooLong() error {
	return fault.New(LongRow, nil, "a row has more than %d MiB: it cannot be taken apart here", MaxRow>>20).
		Advise("restore the dump, which takes rows of any length")
}

// EachRow goes through the text of a file of rows. row is given each row and what ends it, other everything else, line by
// line; both are valid until the next call. An error of theirs ends it, and so does a line that is none of those that
// such a file can have: nothing passes for want of understanding.
func (r RowText) EachRow(text io.Reader, row func(row, end []byte) error, other func(line []byte) error) error {
	in := lineReader{in: bufio.NewReaderSize(text, 256<<10)}
	at := rowPlace{copied: r.Copied}
	for {
		line, err := in.line()
		if err == io.EOF {
			if len(line) > 0 || at.rows || len(at.head) > 0 {
				return errors.New("the text of rows has no end")
			}
			return nil
		}
		if err != nil {
			return err
		}
		n, err := at.next(line)
		switch {
		case err != nil:
		case n > 0:
			err = row(line[:n], line[n:])
		default:
			err = other(line)
		}
		if err != nil {
			return err
		}
	}
}

// rowPlace is where in a file of rows its reader is.
type rowPlace struct {
	copied bool
	rows   bool   // rows follow, up to the end of their group
	head   []byte // of a group, as far as it has come
	into   string // the head of the first group of COPY
}

// around are the beginnings of lines that may stand around groups of rows.
var around = []string{"--", "SET ", "PRAGMA ", "BEGIN;", "COMMIT;", "\n"}

// next takes a line; what it gives is how much of it is a row, 0: nothing.
func (p *rowPlace) next(line []byte) (int, error) {
	switch {
	case p.rows && p.copied && string(line) == "\\.\n":
		p.rows = false
		return 0, nil
	case p.rows && p.copied:
		return len(line) - 1, nil
	case p.rows:
		end := len(line) - 2
		if end < 2 || line[end-1] != ')' || line[end] != ';' && line[end] != ',' {
			return 0, fmt.Errorf("a row has no end: %.40q", line)
		}
		p.rows = line[end] == ','
		return end, nil
	case len(p.head) > 0 || bytes.HasPrefix(line, []byte("COPY ")) && p.copied || bytes.HasPrefix(line, []byte("INSERT INTO ")) && !p.copied:
		return 0, p.heading(line)
	case slices.ContainsFunc(around, func(a string) bool { return bytes.HasPrefix(line, []byte(a)) }):
		return 0, nil
	case p.into != "": // a row that comes in pieces has statements of its own
		return 0, TooLong()
	}
	return 0, fmt.Errorf("a line stands where rows are expected, and is none: %.80q", line)
}

// heading takes a line of the head of a group. The names in it may hold line feeds, and what looks like its end.
func (p *rowPlace) heading(line []byte) error {
	if p.head = append(p.head, line...); len(p.head) > maxHead {
		return errors.New("the head of rows has no end")
	}
	var q quotes
	q.pass(p.head)
	if q.open != 0 {
		return nil
	}
	switch end := bytes.HasSuffix(p.head, []byte(" VALUES\n")); {
	case p.copied && p.into != "" && p.into != string(p.head): // a row in pieces
		return TooLong()
	case p.copied && bytes.HasSuffix(p.head, []byte(";\n")):
		p.into, p.rows, p.head = string(p.head), true, nil
	case !p.copied && end:
		p.rows, p.head = true, nil
	}
	return nil
}

// lineReader reads lines of bounded length; without a copy, where it can.
type lineReader struct {
	in   *bufio.Reader
	room []byte
}

func (r *lineReader) line() ([]byte, error) {
	line, err := r.in.ReadSlice('\n')
	if err != bufio.ErrBufferFull {
		return line, err
	}
	r.room, err = ReadLine(r.in, append(r.room[:0], line...), MaxRow)
	if len(r.room) > MaxRow {
		return nil, TooLong()
	}
	return r.room, err
}

// RowCutter takes rows apart. It is for one goroutine.
type RowCutter struct {
	text RowText
	room []byte
}

// Cutter makes a RowCutter.
func (r RowText) Cutter() *RowCutter { return &RowCutter{text: r} }

// Cut gives the values of a row of a file. They are valid until the next call.
func (c *RowCutter) Cut(dst []Value, row []byte) ([]Value, error) {
	c.room = c.room[:0]
	if c.text.Copied {
		return c.copied(dst, row)
	}
	if len(row) == 0 || row[0] != '(' {
		return dst, fmt.Errorf("a row does not begin as one: %.40q", row)
	}
	dst, rest, err := c.list(dst, row[1:])
	if err == nil && len(rest) > 0 {
		err = fmt.Errorf("a row has no end: %.40q", rest)
	}
	return dst, err
}

// copied takes a line of COPY apart.
func (c *RowCutter) copied(dst []Value, row []byte) ([]Value, error) {
	for {
		field, rest, more := row, []byte(nil), false
		if i := bytes.IndexByte(row, '\t'); i >= 0 {
			field, rest, more = row[:i], row[i+1:], true
		}
		switch {
		case string(field) == `\N`:
			dst = append(dst, Value{})
		case bytes.IndexByte(field, '\\') < 0:
			dst = append(dst, Value{Text, field})
		default:
			at := len(c.room)
			if c.room = unescape(c.room, field, &copyEscapes); c.room == nil {
				return dst, fmt.Errorf("a field ends in the middle: %.40q", field)
			}
			dst = append(dst, Value{Text, c.room[at:]})
		}
		if !more {
			return dst, nil
		}
		row = rest
	}
}

// What a letter after a backslash means; any other means itself.
var (
	copyEscapes = [256]byte{'b': '\b', 'f': '\f', 'n': '\n', 'r': '\r', 't': '\t', 'v': '\v'}
	textEscapes = [256]byte{'b': '\b', 'f': '\f', 'n': '\n', 'r': '\r', 't': '\t', 'Z': 0x1a}
)

// unescape appends a text without its escapes; nil: it ends in the middle of one.
func unescape(dst, s []byte, escapes *[256]byte) []byte {
	for {
		i := bytes.IndexByte(s, '\\')
		if i < 0 {
			return append(dst, s...)
		}
		if i+1 == len(s) {
			return nil
		}
		dst = append(dst, s[:i]...)
		c := s[i+1]
		if e := escapes[c]; e != 0 {
			c = e
		} else if c == '0' {
			c = 0
		}
		dst, s = append(dst, c), s[i+2:]
	}
}

// list takes values apart up to a closing parenthesis, and gives what follows it.
func (c *RowCutter) list(dst []Value, s []byte) ([]Value, []byte, error) {
	for {
		v, rest, err := c.value(s)
		if err != nil {
			return dst, nil, err
		}
		dst = append(dst, v)
		rest = bytes.TrimLeft(rest, " ")
		switch {
		case len(rest) > 0 && rest[0] == ',':
			s = bytes.TrimLeft(rest[1:], " ")
		case len(rest) > 0 && rest[0] == ')':
			return dst, rest[1:], nil
		default:
			return dst, nil, fmt.Errorf("a list of values has no end: %.40q", rest)
		}
	}
}

// value takes one value of a statement, and gives what follows it.
func (c *RowCutter) value(s []byte) (Value, []byte, error) {
	if len(s) == 0 {
		return Value{}, nil, errors.New("a value is missing")
	}
	simple := s[0] == '-' || s[0] >= '0' && s[0] <= '9'
	if simple {
		n := 1
		for n < len(s) && (s[n] >= '0' && s[n] <= '9' || s[n] == '.' || s[n] == 'e' || s[n] == '-' || s[n] == '+') {
			n++
		}
		if n == len(s) || s[n] == ',' || s[n] == ')' || s[n] == ' ' {
			return Value{Number, s[:n]}, s[n:], nil
		}
	}
	if s[0] == '\'' {
		v, rest, err := c.quoted(s, c.text.Backslash)
		if err != nil || !bytes.HasPrefix(rest, []byte("||")) {
			return v, rest, err
		}
	}
	n := endOfValue(s, c.text.Backslash)
	v, err := c.expression(s[:n])
	return v, s[n:], err
}

// endOfValue is where a value ends: at a comma, a closing parenthesis or a space outside of all quotes and parentheses.
func endOfValue(s []byte, backslash bool) int {
	depth := 0
	for i := 0; i < len(s); i++ {
		switch s[i] {
		case '\'', '"', '`':
			quote, escapes := s[i], s[i] == '\'' && (backslash || i > 0 && s[i-1] == 'E')
			for i++; i < len(s) && s[i] != quote; i++ {
				if escapes && s[i] == '\\' {
					i++
				}
			}
		case '(':
			depth++
		case ')':
			if depth == 0 {
				return i
			}
			depth--
		case ',', ' ':
			if depth == 0 {
				return i
			}
		}
	}
	return len(s)
}

// quoted takes a text in quotes, whose own ones are doubled.
func (c *RowCutter) quoted(s []byte, escapes bool) (Value, []byte, error) {
	escaped, doubled, end := false, false, 1
	for {
		n := bytes.IndexByte(s[end:], '\'')
		if n < 0 {
			return Value{}, nil, fmt.Errorf("a text has no end: %.40q", s)
		}
		if escapes {
			if b := bytes.IndexByte(s[end:end+n], '\\'); b >= 0 { // it, and what it stands before
				if escaped, end = true, end+b+2; end > len(s) {
					return Value{}, nil, fmt.Errorf("a text has no end: %.40q", s)
				}
				continue
			}
		}
		end += n
		if end+1 < len(s) && s[end+1] == '\'' {
			doubled, end = true, end+2
			continue
		}
		break
	}
	in, rest := s[1:end], s[end+1:]
	if !escaped && !doubled {
		return Value{Text, in}, rest, nil
	}
	if doubled {
		in = bytes.ReplaceAll(in, []byte("''"), []byte("'"))
	}
	at := len(c.room)
	if escaped {
		c.room = unescape(c.room, in, &textEscapes)
	} else {
		c.room = append(c.room, in...)
	}
	return Value{Text, c.room[at:]}, rest, nil
}

// expression gives the value of what is more than a number or a text.
func (c *RowCutter) expression(s []byte) (Value, error) {
	switch {
	case len(s) == 0:
		return Value{}, errors.New("a value is missing")
	case string(s) == "NULL":
		return Value{}, nil
	case len(s) > 2 && (s[0] == 'x' || s[0] == 'X') && s[1] == '\'':
		return c.hexadecimal(s[1:])
	case len(s) > 2 && s[0] == 'E' && s[1] == '\'':
		v, rest, err := c.quoted(s[1:], true)
		return alone(v, rest, s, err)
	case s[0] == '_':
		if i := bytes.IndexByte(s, '\''); i > 0 {
			if s[i-1] == 'x' || s[i-1] == 'X' {
				return c.hexadecimal(s[i:])
			}
			v, rest, err := c.quoted(s[i:], true)
			return alone(v, rest, s, err)
		}
	case bytes.HasPrefix(s, []byte("CAST(X'")) && bytes.HasSuffix(s, []byte("' AS TEXT)")):
		v, err := c.hexadecimal(s[len("CAST(X") : len(s)-len(" AS TEXT)")])
		v.Kind = Text
		return v, err
	}
	if v, ok := c.joined(s); ok {
		return v, nil
	}
	if v, ok := scaled(s); ok {
		return v, nil
	}
	return Value{Expression, s}, nil
}

func alone(v Value, rest, all []byte, err error) (Value, error) {
	if err == nil && len(rest) > 0 {
		return Value{Expression, all}, nil
	}
	return v, err
}

// hexadecimal gives the bytes between quotes.
func (c *RowCutter) hexadecimal(s []byte) (Value, error) {
	if len(s) < 2 || s[len(s)-1] != '\'' {
		return Value{}, fmt.Errorf("bytes have no end: %.40q", s)
	}
	at := len(c.room)
	var err error
	c.room, err = hex.AppendDecode(c.room, s[1:len(s)-1])
	return Value{Bytes, c.room[at:]}, err
}

// joined gives a text of several pieces: texts in quotes, and characters by number.
func (c *RowCutter) joined(s []byte) (Value, bool) {
	var all []byte
	for {
		switch {
		case len(s) > 0 && s[0] == '\'':
			v, rest, err := c.quoted(s, c.text.Backslash)
			if err != nil {
				return Value{}, false
			}
			all, s = append(all, v.Data...), rest
		case bytes.HasPrefix(s, []byte("char(")):
			inside, rest, found := bytes.Cut(s[len("char("):], []byte(")"))
			for n := range bytes.SplitSeq(inside, []byte(",")) {
				code, err := strconv.ParseUint(string(n), 10, 7)
				if err != nil {
					return Value{}, false
				}
				all = append(all, byte(code))
			}
			if s = rest; !found {
				return Value{}, false
			}
		default:
			return Value{}, false
		}
		if len(s) == 0 {
			return Value{Text, all}, true
		}
		if !bytes.HasPrefix(s, []byte("||")) {
			return Value{}, false
		}
		s = s[2:]
	}
}

// scaled gives a number that is an integer times, or divided by, powers of two.
func scaled(s []byte) (Value, bool) {
	i := bytes.IndexAny(s, "*/")
	if i < 0 {
		return Value{}, false
	}
	n, err := strconv.ParseFloat(string(s[:i]), 64)
	exponent, sign := 0, 1
	if s[i] == '/' {
		sign = -1
	}
	for ; err == nil && i < len(s); i++ {
		end := bytes.IndexByte(s[i:], ')')
		if end < 0 || !bytes.HasPrefix(s[i+1:], []byte("(1<<")) || s[i] != '*' && s[i] != '/' {
			return Value{}, false
		}
		var by int
		by, err = strconv.Atoi(string(s[i+len("*(1<<") : i+end]))
		exponent += by
		i += end
	}
	if err != nil || exponent < 0 || exponent > 1<<12 {
		return Value{}, false
	}
	return Value{Number, strconv.AppendFloat(nil, math.Ldexp(n, sign*exponent), 'e', -1, 64)}, true
}

// AppendRow writes values as a row of a file.
func (r RowText) AppendRow(dst []byte, values []Value) []byte {
	between := byte('\t')
	if !r.Copied {
		dst, between = append(dst, '('), ','
	}
	for i, v := range values {
		if i > 0 {
			dst = append(dst, between)
		}
		dst = r.Append(dst, v)
	}
	if !r.Copied {
		dst = append(dst, ')')
	}
	return dst
}

// Append writes a value as it stands in a row of a file.
func (r RowText) Append(dst []byte, v Value) []byte {
	if !r.Copied {
		return r.AppendLiteral(dst, v)
	}
	if v.Kind == Null {
		return append(dst, `\N`...)
	}
	for _, c := range v.Data {
		switch c {
		case '\\':
			dst = append(dst, `\\`...)
		case '\n':
			dst = append(dst, `\n`...)
		case '\r':
			dst = append(dst, `\r`...)
		case '\t':
			dst = append(dst, `\t`...)
		default:
			dst = append(dst, c)
		}
	}
	return dst
}

// AppendLiteral writes a value as it stands in a statement, on one line.
func (r RowText) AppendLiteral(dst []byte, v Value) []byte {
	switch v.Kind {
	case Null:
		return append(dst, "NULL"...)
	case Number, Expression:
		return append(dst, v.Data...)
	case Bytes:
		return append(hex.AppendEncode(append(dst, "x'"...), v.Data), '\'')
	}
	escapes := r.Backslash
	if !escapes && bytes.ContainsAny(v.Data, "\n\r\x00") {
		if r.Quote == '"' && !r.Copied { // SQLite
			return append(hex.AppendEncode(append(dst, "CAST(X'"...), v.Data), "' AS TEXT)"...)
		}
		dst, escapes = append(dst, 'E'), true
	}
	dst = append(dst, '\'')
	for _, c := range v.Data {
		switch {
		case c == '\'' && r.Backslash:
			dst = append(dst, `\'`...)
		case c == '\'':
			dst = append(dst, "''"...)
		case escapes && c == '\\':
			dst = append(dst, `\\`...)
		case escapes && c == '\n':
			dst = append(dst, `\n`...)
		case escapes && c == '\r':
			dst = append(dst, `\r`...)
		case escapes && c == 0:
			dst = append(dst, `\0`...)
		default:
			dst = append(dst, c)
		}
	}
	return append(dst, '\'')
}
