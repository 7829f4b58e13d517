package mysql

import (
	"bufio"
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync/atomic"

	sqldriver "github.com/go-sql-driver/mysql"

	"grainkeep/internal/engine"
)

// Rows of plain values load faster by the server's own bulk statement than by INSERTs:
// it has no expressions to parse. The file's text is rewritten on its way.

// plainKinds are the types whose values mean the same in both.
var plainKinds = map[string]bool{"tinyint": true, "smallint": true, "mediumint": true, "int": true, "bigint": true, "decimal": true, "float": true, "double": true,
	"date": true, "datetime": true, "timestamp": true, "time": true, "char": true, "varchar": true, "tinytext": true, "text": true, "mediumtext": true, "longtext": true,
	"binary": true, "varbinary": true, "tinyblob": true, "blob": true, "mediumblob": true, "longblob": true}

// inBulk says whether a table of the session's database can be loaded so.
func (s *session) inBulk(ctx context.Context, table string) (bool, error) {
	if allowed, err := s.c.value(ctx, "SELECT @@local_infile"); err != nil || allowed != "1" {
		return false, err
	}
	rows, err := s.c.rows(ctx, "SHOW CREATE TABLE "+table)
	if err != nil {
		return false, err
	}
	t, err := parse(rows[0][1], "")
	if err != nil {
		return false, err
	}
	for _, c := range t.columns {
		if !c.generated && !plainKinds[c.kind] {
			return false, nil
		}
	}
	return !t.versioned && transactional(t.engine), nil
}

var handlers atomic.Int64

// bulk loads the rows that follow the head of a file's first INSERT.
func (s *session) bulk(ctx context.Context, target string, in *bufio.Reader, seen func(int64)) (int64, error) {
	name := fmt.Sprint("rows", handlers.Add(1))
	r := &bulkRows{in: in, seen: seen}
	sqldriver.RegisterReaderHandler(name, func() io.Reader { return r })
	defer sqldriver.DeregisterReaderHandler(name)
	table := quoted.FindString(target)
	n, err := s.c.exec(ctx, "LOAD DATA LOCAL INFILE 'Reader::"+name+"' INTO TABLE "+table+" CHARACTER SET binary"+strings.TrimPrefix(target, table))
	if r.err != nil {
		return n, r.err
	}
	if err != nil {
		return n, err
	}
	// What would be an error of an INSERT is a warning here.
	rows, err := s.c.rows(ctx, "SHOW WARNINGS LIMIT 1")
	if err == nil && len(rows) > 0 {
		err = fmt.Errorf("the server warned: %s [%s]", rows[0][2], rows[0][1])
	}
	return n, err
}

// bulkRows turns value lists into lines of fields.
type bulkRows struct {
	in   *bufio.Reader
	seen func(int64)
	line []byte
	out  []byte
	at   int
	rows int64
	err  error
	end  bool
}

func (b *bulkRows) Read(p []byte) (int, error) {
	for b.at == len(b.out) {
		if b.end || b.err != nil {
			return 0, io.EOF
		}
		b.out, b.at = b.out[:0], 0
		if b.err = b.next(); b.err == io.EOF {
			b.err, b.end = nil, true
		}
	}
	n := copy(p, b.out[b.at:])
	b.at += n
	return n, nil
}

// next rewrites some rows, until there is a piece of text.
func (b *bulkRows) next() (err error) {
	for len(b.out) < piece {
		if b.line, err = engine.ReadLine(b.in, b.line[:0]); err != nil {
			if err == io.EOF && len(b.line) > 0 {
				err = io.ErrUnexpectedEOF
			}
			break
		}
		if b.line[0] != '(' { // the head of the next group
			continue
		}
		if b.out, err = appendFields(b.out, b.line[1:]); err != nil {
			break
		}
		b.rows++
	}
	b.seen(b.rows)
	b.rows = 0
	return err
}

var errRow = errors.New("a row cannot be understood")

// appendFields writes the values of a row, up to its closing parenthesis, as fields.
func appendFields(dst, row []byte) ([]byte, error) {
	for {
		switch {
		case bytes.HasPrefix(row, []byte("NULL")):
			dst, row = append(dst, `\N`...), row[4:]
		case bytes.HasPrefix(row, []byte("x'")):
			end := bytes.IndexByte(row[2:], '\'')
			if end < 0 {
				return dst, errRow
			}
			raw, err := hex.DecodeString(string(row[2 : 2+end]))
			if err != nil {
				return dst, errRow
			}
			dst, row = appendEscaped(dst, raw), row[2+end+1:]
		case len(row) > 0 && row[0] == '\'':
			end := 1
			for end < len(row) && row[end] != '\'' {
				if row[end] == '\\' {
					end++
				}
				end++
			}
			if end >= len(row) {
				return dst, errRow
			}
			dst, row = append(dst, row[1:end]...), row[end+1:] // both read the same escapes
		default:
			end := bytes.IndexAny(row, ",)")
			if end < 0 {
				return dst, errRow
			}
			dst, row = append(dst, row[:end]...), row[end:]
		}
		if len(row) == 0 || row[0] != ',' && row[0] != ')' {
			return dst, errRow
		}
		if row[0] == ')' {
			return append(dst, '\n'), nil
		}
		dst, row = append(dst, '\t'), row[1:]
	}
}
