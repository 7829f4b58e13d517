package mysql

import (
	"context"
	"database/sql/driver"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/pattern"
)

// The driver holds a row whole. So a row whose long values are too much for that is
// passed over at first, and read in pieces then, by its primary key.

const (
	// longRow is how much a row may have in columns of long types to be read as a whole, in
	// bytes. What follows is written in another form: it must depend on nothing but the row.
	longRow   = 4 << 20
	longPiece = 8 << 20 // bytes asked for at once
)

var (
	longKinds  = []string{"mediumtext", "longtext", "mediumblob", "longblob"}
	primaryKey = pattern.Of("^PRIMARY KEY \\(((?:`(?:[^`]|``)*`,?)+)\\)") // a part of a column is no key here
)

// keyed gives the columns of a table's primary key, where a row can be asked for by it.
func (t *table) keyed(columns []column) (key []column) {
	for _, item := range t.inside {
		m := primaryKey().FindStringSubmatch(item)
		if m == nil {
			continue
		}
		for _, name := range quoted().FindAllString(m[1], -1) {
			c, there := find(columns, name)
			if !there || c.is("", nil) == "" {
				return nil
			}
			key = append(key, c)
		}
		for _, c := range columns { // a key has a row in the history for each of its states
			if t.versioned && c.period {
				key = append(key, c)
			}
		}
	}
	return key
}

// plainNumber says whether a column's values are numbers that are written as they come.
func (c *column) plainNumber() bool {
	switch c.kind {
	case "tinyint", "smallint", "mediumint", "int", "bigint", "decimal", "year":
		return true
	}
	return false
}

// is writes a condition that a column has a value; empty where there is none for the type.
func (c *column) is(v string, raw []byte) string {
	name := quote(c.name)
	if c.plainNumber() {
		return name + " = " + v
	}
	switch c.kind {
	case "date", "datetime", "timestamp", "time":
		return name + " = " + literal(v)
	case "inet4", "inet6", "uuid":
		return name + " = _ascii" + literal(v)
	case "binary", "varbinary":
		return fmt.Sprintf("%s = x'%x'", name, raw)
	case "char", "varchar":
		known := c.charset == "latin1" || strings.HasPrefix(c.charset, "utf8") && utf8.Valid(raw) ||
			c.charset == "ascii" && !slices.ContainsFunc(raw, func(b byte) bool { return b >= utf8.RuneSelf })
		if !known { // no key of the table's helps with this, but it is right
			return fmt.Sprintf("convert(%s USING binary) = x'%x'", name, raw)
		}
		collate := "" // else the server takes two orders of equal weight for a quarrel
		if strings.HasPrefix(c.collation, c.charset+"_") {
			collate = " COLLATE " + c.collation
		}
		return fmt.Sprintf("%s = convert(x'%x' USING %s)%s", name, raw, c.charset, collate)
	}
	return ""
}

// keylessRow bounds a row of a table without a key, in bytes: it can be read only whole.
const keylessRow = 24 << 20

// setApart makes the query pass over long values, and tell of them.
func (h *handle) setApart(columns, key []column) {
	h.columns, h.by, h.bound = columns, key, longRow
	if len(key) == 0 {
		h.bound = keylessRow
	}
	var lengths []string
	for i, c := range columns {
		if slices.Contains(longKinds, c.kind) {
			h.long = append(h.long, i)
			lengths = append(lengths, "coalesce(length("+quote(c.name)+"), 0)")
		}
	}
	if len(h.long) == 0 {
		return
	}
	total := strings.Join(lengths, " + ")
	for _, i := range h.long {
		q := quote(columns[i].name)
		h.asked[i] = fmt.Sprintf("IF(%s > %d, NULL, %s)", total, h.bound, q)
		h.beside = append(h.beside, "length("+q+")")
	}
	for _, c := range key {
		h.beside = append(h.beside, quote(c.name))
	}
}

// longOne is a row that was passed over.
type longOne struct {
	where   string
	lengths []int64 // of the long columns, in bytes; -1: NULL
}

// passed tells whether a row was passed over.
func (h *handle) passed(values []driver.Value) (one longOne, yes bool) {
	if len(h.long) == 0 {
		return one, false
	}
	beside := values[len(h.forms):]
	if h.typed {
		beside = beside[1:]
	}
	lengths, total := beside[:len(h.long)], int64(0)
	for _, v := range lengths {
		total += max(0, lengthOf(v))
	}
	if total <= h.bound {
		return one, false
	}
	for _, v := range lengths {
		one.lengths = append(one.lengths, lengthOf(v))
	}
	var terms []string
	for i, v := range beside[len(h.long):][:len(h.by)] {
		s := text(v)
		terms = append(terms, h.by[i].is(s, []byte(s)))
	}
	one.where = " WHERE " + strings.Join(terms, " AND ")
	return one, true
}

// lengthOf gives a length that the server told; -1: NULL.
func lengthOf(v driver.Value) int64 {
	switch v := v.(type) {
	case nil:
		return -1
	case int64:
		return v
	}
	n, _ := strconv.ParseInt(text(v), 10, 64)
	return n
}

// readLong reads and writes a row that was passed over.
func (r *reader) readLong(ctx context.Context, h *handle, one longOne, to engine.Rows) error {
	if len(h.by) == 0 {
		total := int64(0)
		for _, n := range one.lengths {
			total += max(0, n)
		}
		return fault.New("row-too-long", nil, "a row of %s has %d MiB, and the table has no primary key by which such a row "+
			"could be read in pieces", h.table, total>>20).Advise("give the table a primary key, or leave it out (skip_tables)")
	}
	short, err := r.short(ctx, h, one)
	if err != nil {
		return err
	}
	row := []byte{'('}
	for i, f := range h.forms {
		if i > 0 {
			row = append(row, ',')
		}
		n := slices.Index(h.long, i)
		switch {
		case n < 0:
			row = append(row, short[i]...)
		case one.lengths[n] < 0:
			row = append(row, "NULL"...)
		case one.lengths[n] <= longRow:
			var whole []byte
			err = r.pieces(ctx, h, one, n, func(p []byte) error {
				whole = append(whole, p...)
				return nil
			})
			if err == nil {
				row, err = appendBytes(row, whole, f, to)
			}
		default:
			row = append(row, "x'"...)
			err = r.pieces(ctx, h, one, n, func(p []byte) (err error) {
				row, err = appendLong(row, p, hex.AppendEncode, to)
				return err
			})
			row = append(row, '\'')
		}
		if err != nil {
			return err
		}
	}
	return to.Row(append(row, ')'), false)
}

type held []byte

func (*held) Beside([]byte) {}

func (h *held) Row(p []byte, _ bool) error {
	*h = append(*h, p...)
	return nil
}

// short reads the other columns of a row that was passed over, as they are written.
func (r *reader) short(ctx context.Context, h *handle, one longOne) ([][]byte, error) {
	asked := slices.Clone(h.asked)
	for _, i := range h.long {
		asked[i] = "NULL"
	}
	written := make([][]byte, len(h.forms))
	rows := 0
	err := r.c.each(ctx, "SELECT "+strings.Join(asked, ", ")+" FROM "+h.table+one.where,
		func(values []driver.Value) error {
			rows++
			for i, f := range h.forms {
				var v held
				rest, err := appendValue(nil, values[i], f, &v)
				if err != nil {
					return err
				}
				written[i] = append(v, rest...)
			}
			return nil
		})
	if err == nil && rows != 1 {
		err = fmt.Errorf("there are %d rows%s", rows, one.where)
	}
	return written, err
}

// pieces reads a long value of a row that was passed over, in one query: the server finds
// the value once, and sends each piece as a row.
func (r *reader) pieces(ctx context.Context, h *handle, one longOne, n int, take func([]byte) error) error {
	limit, err := r.c.value(ctx, "SELECT least(@@max_allowed_packet DIV 2, "+strconv.Itoa(longPiece)+")")
	if err != nil {
		return err
	}
	step, err := strconv.ParseInt(limit, 10, 64)
	if err != nil {
		return err
	}
	c, length := h.columns[h.long[n]], one.lengths[n]
	left := length
	bytes := quote(c.name)
	// else it would count characters; a CAST would be bounded by the packet limit
	if strings.HasSuffix(c.kind, "text") {
		bytes = "convert(" + bytes + " USING binary)"
	}
	starts := []string{"SELECT 1 AS grainkeep_start"}
	for at := step; at < left; at += step {
		starts = append(starts, "SELECT "+strconv.FormatInt(at+1, 10))
	}
	query := fmt.Sprintf("SELECT substring(%s, grainkeep_start, %d), grainkeep_start FROM (%s) AS "+
		"grainkeep_pieces STRAIGHT_JOIN %s%s", bytes, step, strings.Join(starts, " UNION ALL "), h.table, one.where)
	err = r.c.each(ctx, query, func(values []driver.Value) error {
		p, _ := values[0].([]byte)
		if start := strconv.FormatInt(length-left+1, 10); int64(len(p)) != min(step, left) || text(values[1]) != start {
			return fmt.Errorf("%d bytes of %s from byte %s on came where %d from byte %s on were expected%s", len(p),
				bytes, text(values[1]), min(step, left), start, one.where)
		}
		left -= int64(len(p))
		return take(p)
	})
	if err == nil && left > 0 {
		err = fmt.Errorf("%d bytes of %s are not there%s", left, bytes, one.where)
	}
	return err
}
