package mysql

import (
	"bufio"
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"

	"grainkeep/internal/pattern"

	sqldriver "github.com/go-sql-driver/mysql"
)

// Rows load faster by the server's own bulk statement than by INSERTs: it has no
// expressions to parse. The file's text is rewritten on its way.

// fields says how values become columns.
type fields struct {
	into  string // the table and what follows it in the statement
	enums []bool // which of them are of that type
}

// fields says how the values of a file become a table's columns; nil: INSERTs must do it.
func (s *session) fields(ctx context.Context, target string) (*fields, error) {
	if allowed, err := s.c.value(ctx, "SELECT @@local_infile"); err != nil || allowed != "1" {
		return nil, err
	}
	names := quoted().FindAllString(target, -1)
	if len(names) == 0 {
		return nil, errors.New("the file says not which table its rows are of")
	}
	t, err := tableOf(ctx, s.c, names[0])
	if err != nil || len(names) == 1 {
		return nil, err
	}
	var f fields
	var into, set []string
	variable := func(i int) string { return fmt.Sprint("@v", i) }
	counting := -1
	for i, name := range names[1:] {
		c, there := find(t.columns, name)
		if !there { // it says since when a row was current
			c.kind = "timestamp"
		}
		value, ok := c.field(variable(i))
		if !ok {
			return nil, nil
		}
		if c.counts {
			counting = i
		}
		f.enums = append(f.enums, c.kind == "enum")
		if value != "" {
			set = append(set, name+" = "+value)
			name = variable(i)
		}
		into = append(into, name)
	}
	// with a SET a 0 is a new number, whatever the sql_mode says, unless it is set too
	if len(set) > 0 && counting >= 0 {
		set = append(set, into[counting]+" = "+variable(counting))
		into[counting] = variable(counting)
	}
	f.into = names[0] + " CHARACTER SET binary (" + strings.Join(into, ", ") + ")"
	if len(set) > 0 {
		f.into += " SET " + strings.Join(set, ", ")
	}
	return &f, nil
}

var numeric = pattern.Of(`(?:^|,)'\d+'(?:,|$)`)

// field says what a column gets where a field alone does not mean what the value meant.
func (c *column) field(variable string) (value string, ok bool) {
	switch c.kind {
	case "enum", "set": // a number may be taken for a member of that name
		_, f := c.read()
		return "", f == member && !numeric().MatchString(c.full)
	case "year": // the text 0 is another year than the number
		return variable + " + 0", true
	case "inet4", "inet6", "uuid": // bytes are taken for the value itself
		return "convert(" + variable + " USING ascii)", true
	case "tinyint", "smallint", "mediumint", "int", "bigint", "decimal", "float", "double", "bit", "date", "datetime",
		"timestamp", "time",
		"char", "varchar", "tinytext", "text", "mediumtext", "longtext", "binary", "varbinary", "tinyblob", "blob",
		"mediumblob", "longblob",
		"geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon",
		"geometrycollection":
		return "", true
	}
	return "", false
}

var handlers atomic.Int64

// bulk loads the rows that follow the head of a file's first INSERT.
func (s *session) bulk(ctx context.Context, f *fields, head string, in *bufio.Reader, seen func(int64)) (int64, error) {
	name := fmt.Sprint("rows", handlers.Add(1))
	r := &bulkRows{in: in, head: head, enums: f.enums, seen: seen}
	sqldriver.RegisterReaderHandler(name, func() io.Reader { return r })
	defer sqldriver.DeregisterReaderHandler(name)
	n, err := s.c.exec(ctx, "LOAD DATA LOCAL INFILE 'Reader::"+name+"' INTO TABLE "+f.into)
	if r.err != nil {
		return n, r.err
	}
	if err != nil {
		return n, err
	}
	// What would be an error of an INSERT is a warning here.
	count, err := s.c.value(ctx, "SELECT @@warning_count")
	if err != nil || count == strconv.FormatInt(r.none, 10) {
		return n, err
	}
	if err = warned(ctx, s.c); err == nil {
		err = fmt.Errorf("the server cut values: %s times, where %d values are no members of their ENUM", count, r.none)
	}
	return n, err
}

// bulkRows turns value lists into lines of fields. A value may be longer than any
// buffer: what is known of it between two pieces is the state.
type bulkRows struct {
	in    *bufio.Reader
	head  string // stands before each group but the first
	enums []bool
	seen  func(int64)

	out   []byte
	at    int // what of it was read
	err   error
	end   bool
	rows  int64 // that nobody was told of
	none  int64 // values that are no members of their ENUM
	state state
	field int
	word  []byte // a number, NULL, or what stands before a quote
	hexa  []byte // digits
	raw   []byte
	match int // bytes of the head that have passed
}

type state int

const (
	rowBegin state = iota // before (
	inWord                // at the begin of a value, or in one without quotes
	inText
	escaped // after a backslash
	inHexa
	valueEnd // before , or )
	rowEnd   // before , or ;
	lineEnd  // before the line feed after a comma
	groupEnd // before the line feed after a semicolon
	inHead   // before or in the head of the next group
)

func (b *bulkRows) Read(p []byte) (int, error) {
	for b.at == len(b.out) {
		if b.end || b.err != nil {
			return 0, io.EOF
		}
		b.out, b.at = b.out[:0], 0
		b.err = b.next()
	}
	n := copy(p, b.out[b.at:])
	b.at += n
	return n, nil
}

// next rewrites what has been read so far.
func (b *bulkRows) next() error {
	_, err := b.in.Peek(1)
	if err == io.EOF {
		if b.state != inHead || b.match > 0 {
			return io.ErrUnexpectedEOF
		}
		b.end = true
		return nil
	}
	if err != nil {
		return err
	}
	p, err := b.in.Peek(b.in.Buffered())
	if err != nil {
		return err
	}
	for rest := p; len(rest) > 0; {
		if b.state == valueEnd && rest[0] == ',' { // most often
			b.out, b.state = append(b.out, '\t'), inWord
			b.field++
			rest = rest[1:]
		}
		if rest, err = b.step(rest); err != nil {
			return err
		}
	}
	b.in.Discard(len(p))
	b.seen(b.rows)
	b.rows = 0
	return nil
}

var errRow = errors.New("a row cannot be understood")

// step takes as much as belongs to one state.
func (b *bulkRows) step(p []byte) (rest []byte, err error) {
	switch b.state {
	case inWord:
		return b.inWord(p)
	case inText:
		return b.inText(p), nil
	case inHexa:
		return b.inHexa(p)
	case escaped:
		b.out, b.state = append(b.out, p[0]), inText // both read the same escapes
		return p[1:], nil
	case inHead:
		n := min(len(p), len(b.head)-b.match)
		if string(p[:n]) != b.head[b.match:b.match+n] {
			return nil, errRow
		}
		if b.match += n; b.match == len(b.head) {
			b.match, b.state = 0, rowBegin
		}
		return p[n:], nil
	}
	return p[1:], b.mark(p[0])
}

// mark takes what stands between values, rows and groups.
func (b *bulkRows) mark(c byte) error {
	switch {
	case b.state == rowBegin && c == '(':
		b.state, b.field = inWord, 0
	case b.state == valueEnd && c == ')':
		b.out, b.state = append(b.out, '\n'), rowEnd
		b.rows++
	case b.state == rowEnd && c == ',':
		b.state = lineEnd
	case b.state == rowEnd && c == ';':
		b.state = groupEnd
	case b.state == lineEnd && c == '\n':
		b.state = rowBegin
	case b.state == groupEnd && c == '\n':
		b.state = inHead
	default:
		return errRow
	}
	return nil
}

func (b *bulkRows) inWord(p []byte) (rest []byte, err error) {
	end := 0
	for end < len(p) && p[end] != ',' && p[end] != ')' && p[end] != '\'' {
		end++
	}
	word := p[:end]
	if len(b.word) > 0 || end == len(p) {
		b.word = append(b.word, word...)
		word = b.word
	}
	if len(b.word) > 1000 { // no number is as long
		return nil, errRow
	}
	if end == len(p) {
		return nil, nil
	}
	b.word = b.word[:0]
	if p[end] == '\'' {
		b.state = inText
		if string(word) == "x" {
			b.state = inHexa
		}
		return p[end+1:], nil
	}
	b.state = valueEnd
	switch {
	case len(word) == 0:
		return nil, errRow
	case string(word) == "NULL":
		b.out = append(b.out, `\N`...)
		return p[end:], nil
	case string(word) == "0" && b.field < len(b.enums) && b.enums[b.field]:
		b.none++
	}
	b.out = append(b.out, word...)
	return p[end:], nil
}

func (b *bulkRows) inText(p []byte) (rest []byte) {
	end := 0
	for end < len(p) && p[end] != '\'' && p[end] != '\\' {
		end++
	}
	b.out = append(b.out, p[:end]...)
	if end == len(p) {
		return nil
	}
	b.state = valueEnd
	if p[end] == '\\' {
		b.out, b.state = append(b.out, '\\'), escaped
	}
	return p[end+1:]
}

func (b *bulkRows) inHexa(p []byte) (rest []byte, err error) {
	end := bytes.IndexByte(p, '\'')
	if end >= 0 {
		rest = p[end+1:]
		p = p[:end]
		b.state = valueEnd
	}
	b.hexa = append(b.hexa, p...)
	pairs := len(b.hexa) / 2
	b.raw = slices.Grow(b.raw[:0], pairs)[:pairs]
	if _, err := hex.Decode(b.raw, b.hexa[:2*pairs]); err != nil || end >= 0 && len(b.hexa)%2 != 0 {
		return nil, errRow
	}
	b.out = appendEscaped(b.out, b.raw)
	b.hexa = append(b.hexa[:0], b.hexa[2*pairs:]...)
	return rest, nil
}
