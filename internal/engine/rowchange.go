package engine

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"slices"
)

// RowChange is a statement of a file of changes, taken apart. Its values are valid until the next one.
type RowChange struct {
	Inserts bool
	Columns []string  // literal: of the rows of an INSERT
	Rows    [][]Value // of an INSERT
	Set     []Named   // of an UPDATE
	Where   []Named   // of an UPDATE or a DELETE: how the row is named
}

// Named is the value of a column.
type Named struct {
	Column string // literal
	Value  Value
	// Before and After are what stands around the value where it is part of an expression about it, as written.
	Before, After string
}

// Change takes a statement that changes rows of the table of an ID apart.
func (c *RowCutter) Change(sql []byte, table string) (x RowChange, err error) {
	c.room = c.room[:0]
	for _, head := range []string{"INSERT INTO ", "UPDATE ONLY ", "UPDATE ", "DELETE FROM ONLY ", "DELETE FROM "} {
		rest, is := bytes.CutPrefix(sql, []byte(head+table+" "))
		if !is {
			continue
		}
		switch head[0] {
		case 'I':
			x.Inserts = true
			err = c.inserted(&x, rest)
		case 'U':
			rest, is = bytes.CutPrefix(rest, []byte("SET "))
			if x.Set, rest, err = c.named(rest, ", "); err != nil || !is {
				break
			}
			rest = bytes.TrimPrefix(rest, []byte(" "))
			fallthrough
		default:
			if rest, is = bytes.CutPrefix(rest, []byte("WHERE ")); is {
				x.Where, rest, err = c.named(rest, " AND ")
			}
			is = is && len(rest) == 0
		}
		if err != nil || !is {
			break
		}
		return x, nil
	}
	if err == nil {
		err = fmt.Errorf("a change of %.80q cannot be taken apart: %.80q", table, sql)
	}
	return x, err
}

// inserted takes the columns and the rows of an INSERT.
func (c *RowCutter) inserted(x *RowChange, s []byte) (err error) {
	wrong := fmt.Errorf("an INSERT cannot be taken apart: %.80q", s)
	s, is := bytes.CutPrefix(s, []byte("("))
	for is {
		var name string
		if name, s, is = c.name(s); !is {
			return wrong
		}
		x.Columns = append(x.Columns, name)
		if s, is = bytes.CutPrefix(s, []byte(", ")); !is {
			break
		}
	}
	s, is = bytes.CutPrefix(s, []byte(") "))
	if !is {
		return wrong
	}
	s = bytes.TrimPrefix(s, []byte("OVERRIDING SYSTEM VALUE "))
	s, is = bytes.CutPrefix(s, []byte("VALUES ("))
	for is {
		var row []Value
		if row, s, err = c.list(nil, s); err != nil {
			return err
		}
		if len(row) != len(x.Columns) {
			return wrong
		}
		x.Rows = append(x.Rows, row)
		if len(s) == 0 {
			return nil
		}
		s, is = bytes.CutPrefix(s, []byte(", ("))
	}
	return wrong
}

// name takes a quoted name.
func (c *RowCutter) name(s []byte) (name string, rest []byte, ok bool) {
	q := c.text.Quote
	if len(s) == 0 || s[0] != q {
		return "", s, false
	}
	for i := 1; i < len(s); i++ {
		if s[i] != q {
			continue
		}
		if i+1 < len(s) && s[i+1] == q {
			i++
			continue
		}
		return string(bytes.ReplaceAll(s[1:i], []byte{q, q}, []byte{q})), s[i+1:], true
	}
	return "", s, false
}

// named takes values of columns, up to what follows the last one.
func (c *RowCutter) named(s []byte, between string) (list []Named, rest []byte, err error) {
	for {
		var n Named
		at, is := bytes.CutPrefix(s, []byte("convert("))
		if n.Column, at, is = c.name(pick(is, at, s)); !is {
			return list, s, fmt.Errorf("a column has no name: %.80q", s)
		}
		if at, is = bytes.CutPrefix(at, []byte(" USING binary)")); is {
			n.Before = "binary"
		}
		if at, is = bytes.CutPrefix(at, []byte(" = ")); !is {
			return list, s, fmt.Errorf("a column has no value: %.80q", s)
		}
		if n, s, err = c.valued(n, at); err != nil {
			return list, s, err
		}
		list = append(list, n)
		if s, is = bytes.CutPrefix(s, []byte(between)); !is {
			return list, s, nil
		}
	}
}

func pick(first bool, a, b []byte) []byte {
	if first {
		return a
	}
	return b
}

// Valued takes the value at the beginning of a text, as it stands in a condition, and gives what follows it.
func (c *RowCutter) Valued(s []byte) (Named, []byte, error) { return c.valued(Named{}, s) }

// valued takes the value of a column: a plain one, or bytes that are said to be of a character set.
func (c *RowCutter) valued(n Named, s []byte) (Named, []byte, error) {
	if inside, is := bytes.CutPrefix(s, []byte("convert(")); is {
		v, rest, err := c.value(inside)
		end := bytes.IndexByte(rest, ')')
		if err != nil || end < 0 || v.Kind != Bytes {
			return n, s, fmt.Errorf("a value cannot be taken apart: %.80q", s)
		}
		end++
		if after, is := bytes.CutPrefix(rest[end:], []byte(" COLLATE ")); is {
			end = len(rest) - len(after)
			for end < len(rest) && rest[end] != ' ' && rest[end] != ',' {
				end++
			}
		}
		n.Value, n.Before, n.After = v, "convert(", string(rest[:end])
		return n, rest[end:], nil
	}
	if _, rest, is := c.name(s); is { // as it is
		n.Value = Value{Expression, s[:len(s)-len(rest)]}
		return n, rest, nil
	}
	var err error
	n.Value, s, err = c.value(s)
	return n, s, err
}

// EachChange goes through the text of a file of transactions: statements that change rows of one of some tables are given
// with its ID, without their end, and everything else line by line, without an ID. A line that is none of those that such
// a file can have is an error: nothing passes for want of understanding.
func EachChange(text io.Reader, ids []string, each func(id string, sql, end []byte) error) error {
	in := lineReader{in: bufio.NewReaderSize(text, 256<<10)}
	for {
		line, err := in.line()
		if err == io.EOF && len(line) == 0 {
			return nil
		}
		if err != nil {
			return err
		}
		id, sql, end := "", line, []byte(nil)
		tail := max(0, len(line)-48) // bytes that the end takes at most
		if m := rowsEnd().FindSubmatchIndex(line[tail:]); m != nil {
			if id = TableOf(line, ids); id == "" {
				return fmt.Errorf("a change is of none of the tables that it is said to be of: %.80q", line)
			}
			sql, end = line[:tail+m[0]], line[tail+m[0]:]
		} else if !slices.ContainsFunc(around, func(a string) bool { return bytes.HasPrefix(line, []byte(a)) }) {
			return fmt.Errorf("a line stands where changes are expected, and is none: %.80q", line)
		}
		if err := each(id, sql, end); err != nil {
			return err
		}
	}
}

// AppendChange writes a statement on the rows of a table of an ID, as its file has it.
func (r RowText) AppendChange(dst []byte, sql []byte, table string, x RowChange) []byte {
	head := sql[:bytes.Index(sql, []byte(table))+len(table)+1]
	dst = append(dst, head...)
	if x.Inserts {
		at := bytes.Index(sql[len(head):], []byte("VALUES ("))
		dst = append(dst, sql[len(head):len(head)+at+len("VALUES ")]...)
		for i, row := range x.Rows {
			if i > 0 {
				dst = append(dst, ", "...)
			}
			dst = append(dst, '(')
			for k, v := range row {
				if k > 0 {
					dst = append(dst, ',')
				}
				dst = r.AppendLiteral(dst, v)
			}
			dst = append(dst, ')')
		}
		return dst
	}
	if len(x.Set) > 0 {
		dst = r.appendNamed(append(dst, "SET "...), x.Set, ", ")
		dst = append(dst, ' ')
	}
	return r.appendNamed(append(dst, "WHERE "...), x.Where, " AND ")
}

func (r RowText) appendNamed(dst []byte, list []Named, between string) []byte {
	quoted := func(name string) {
		dst = append(append(dst, r.Quote), bytes.ReplaceAll([]byte(name), []byte{r.Quote}, []byte{r.Quote, r.Quote})...)
		dst = append(dst, r.Quote)
	}
	for i, n := range list {
		if i > 0 {
			dst = append(dst, between...)
		}
		switch n.Before {
		case "binary":
			dst = append(dst, "convert("...)
			quoted(n.Column)
			dst = append(dst, " USING binary) = "...)
			dst = r.AppendLiteral(dst, n.Value)
		default:
			quoted(n.Column)
			dst = append(append(dst, " = "...), n.Before...)
			dst = append(r.AppendLiteral(dst, n.Value), n.After...)
		}
	}
	return dst
}
