package mysql

import (
	"context"
	"database/sql/driver"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"grainkeep/internal/engine"
	"grainkeep/internal/pattern"
)

// column is what the reading of a column needs to know.
type column struct {
	name, kind, charset string
	full                string // the whole type
	scaled              bool   // FLOAT or DOUBLE with a fixed number of decimals
	unsigned, zerofill  bool
	touched             bool // by the server itself, when another value of the row changes: ON UPDATE
	counts              bool // by itself: AUTO_INCREMENT
	generated           bool
	period              bool // since or until when a row of a versioned table was current
	collation           string
}

var (
	typed    = pattern.Of("^`(?:[^`]|``)*` (\\w+)")
	inSet    = pattern.Of(`^ (?:unsigned |zerofill )*CHARACTER SET (\w+)`)
	sorted   = pattern.Of(`^ (?:CHARACTER SET \w+ )?COLLATE (\w+)`)
	defaults = pattern.Of(`^\).* DEFAULT CHARSET=(\w+)`)

	sortedAll = pattern.Of(`^\).* DEFAULT CHARSET=\w+ COLLATE=(\w+)`)
)

// columnsOf reads the columns out of a table's definition. The server's information
// tables may lack some while somebody waits to change the table.
func columnsOf(list []string, options string) (columns []column) {
	charset := ""
	if m := defaults().FindStringSubmatch(words(options)); m != nil {
		charset = m[1]
	}
	for _, item := range list {
		m := typed().FindStringSubmatchIndex(item)
		if m == nil {
			continue
		}
		c := column{name: unquote(quoted().FindString(item)), kind: strings.ToLower(item[m[2]:m[3]]), charset: charset}
		// What stands between the parentheses of a type may hold anything.
		rest := item[m[3]:]
		if strings.HasPrefix(rest, "(") {
			inside, end := items(rest[1:])
			c.full = strings.Join(inside, ",")
			c.scaled = len(inside) == 2
			rest = rest[min(len(rest), 1+end+1):]
		}
		rest = words(rest)
		if m := inSet().FindStringSubmatch(rest); m != nil {
			c.charset = m[1]
		}
		if m := sorted().FindStringSubmatch(rest); m != nil {
			c.collation = m[1]
		} else if m := sortedAll().FindStringSubmatch(words(options)); m != nil {
			c.collation = m[1]
		}
		c.counts = strings.Contains(rest, " AUTO_INCREMENT")
		c.zerofill = strings.Contains(rest, " zerofill")
		c.unsigned = strings.HasPrefix(rest, " unsigned")
		c.touched = strings.Contains(rest, " ON UPDATE ")
		c.period = strings.Contains(rest, "GENERATED ALWAYS AS ROW ")
		c.generated = c.period || strings.Contains(rest, " GENERATED ALWAYS AS (")
		columns = append(columns, c)
	}
	return columns
}

// find gives the column of a quoted name.
func find(columns []column, name string) (column, bool) {
	i := slices.IndexFunc(columns, func(c column) bool { return quote(c.name) == name })
	if i < 0 {
		return column{}, false
	}
	return columns[i], true
}

func unquote(name string) string {
	name = strings.TrimSuffix(strings.TrimPrefix(name, "`"), "`")
	return strings.ReplaceAll(name, "``", "`")
}

// form is how a column's values are written.
type form int

const (
	number  form = iota // as it is
	plainly             // in quotes; nothing in it needs more
	ascii               // in quotes, and said to be ASCII
	inUTF8              // in quotes, and said to be UTF-8
	inOwn               // in quotes, in the column's own character set
	hexa                // in hexadecimal
	member              // as inOwn; an empty one is no member at all
)

// read says how a column is asked for and written.
func (c *column) read() (expression string, f form) {
	q := quote(c.name)
	switch c.kind {
	case "float", "double":
		if c.kind == "float" || c.scaled { // its text would have too few digits
			return q + " + 0e0", number
		}
		return q, number
	case "tinyint", "smallint", "mediumint", "int", "bigint", "decimal", "year":
		return q, number
	case "date", "datetime", "timestamp", "time":
		return q, plainly
	case "char", "varchar", "tinytext", "text", "mediumtext", "longtext":
		if wide(c.charset) {
			return q, hexa
		}
		return q, inOwn
	case "enum", "set":
		if wide(c.charset) || slices.Contains(strings.Split(c.full, ","), "''") {
			return q + " + 0", number // by number: an empty member is not an empty value
		}
		return q, member
	case "json":
		return q, inUTF8
	case "inet4", "inet6", "uuid":
		return q, ascii
	}
	return q, hexa // binary, blobs, bits, geometry
}

func wide(charset string) bool {
	return slices.Contains([]string{"ucs2", "utf16", "utf16le", "utf32"}, charset)
}

// handle is what reading a table needs.
type handle struct {
	asked   []string // what is asked for in place of each column
	beside  []string // what is asked for beside them
	table   string   // as it stands after FROM
	forms   []form
	columns []column
	long    []int    // those of them that may be too long to be read with the row
	by      []column // by which such a row is asked for again; none: it is refused
	bound   int64    // bytes in those columns that a row may have to be read whole
	key     string   // the column by which ranges are read
	inOrder []column // the columns by which the table is read in order; none: it cannot be
	first   int64
	all     []column // of the table, in the log's order
	acted   bool     // foreign keys change rows of it, and the log tells of that
	told    []bool   // of those, whether the log's values give the very texts that reading gives

	typed     bool // the first of what is asked for beside them is whether JSON holds values of SQL types
	generated bool // the last is a digest of generated values
	outside   bool // no snapshot holds the table
}

// groupOf is how much text a statement has: well below what any server takes at once.
const groupOf = 256 << 10

func (r *catalogReader) addRows(ctx context.Context, t *table) error {
	id := quote(t.name)
	var names, listed []string
	var read []column
	var h handle
	strict := true
	columns := t.columns
	history := t.versioned && r.s.version >= 101100
	if history {
		columns = withPeriod(columns)
	} else if t.versioned {
		r.warns = append(r.warns,
			fmt.Sprintf("the history of %s is not part of the dump: servers before MariaDB 10.11 cannot load it",
				t.name))
	}
	var sums []string
	for _, c := range columns {
		if c.generated {
			if !c.period {
				sums = append(sums, digestOf(c.name, c.kind))
			}
			continue
		}
		expression, f := c.read()
		names, listed, read = append(names, c.name), append(listed, quote(c.name)), append(read, c)
		h.asked, h.forms = append(h.asked, expression), append(h.forms, f)
		strict = strict && c.kind != "enum" && c.kind != "set"
	}
	h.table, h.all = id, t.columns
	set := byteNames
	if history {
		h.table += " FOR SYSTEM_TIME ALL"
		set += "SET system_versioning_insert_history = 1;\n"
	}
	if !strict {
		set += lenient
	}
	switch {
	case len(h.asked) == 0: // nothing but generated columns
		h.asked, h.forms = []string{"0"}, nil
	case transactional(t.engine):
		h.setApart(read, t.keyed(read))
	default: // before those who wait to write; they may wait for this dump
		h.asked[0], h.outside = "HIGH_PRIORITY "+h.asked[0], true
	}
	if tests := typedJSON(read); len(tests) > 0 && !r.s.maria {
		h.beside, h.typed = slices.Insert(h.beside, 0, strings.Join(tests, " OR ")), true
	}
	if len(sums) > 0 {
		h.beside, h.generated = append(h.beside, "sha2(concat("+strings.Join(sums, ", ")+"), 256)"), true
	}
	e := engine.Table{ID: id, Name: t.name, Columns: names, Bytes: t.bytes, Rows: t.rows, Handle: &h,
		Frame: engine.Framing{Head: set + "INSERT INTO " + id + " (" + strings.Join(listed, ", ") + ") VALUES\n",
			RowEnd: ",\n", GroupEnd: ";\n", Group: groupOf},
		Count: "SELECT concat(" + literal(id) + ", '|', count(*)) FROM " + h.table + ";\n"}
	setKey(&e, &h, t, read)
	setLog(&e, &h, t)
	if r.s.logsKeys { // what they do to rows is in the log
		h.acted, e.Follows = e.Follows, false
	}
	if r.s.at.Log {
		e.Made = t.made
	}
	if n, err := strconv.ParseFloat(t.written, 64); err == nil {
		e.Written = time.Unix(int64(n), 0).UTC()
	}
	if err := r.ranges(ctx, t, &e, &h); err != nil {
		return err
	}
	r.tables = append(r.tables, e)
	return nil
}

// typedJSON are tests of JSON that holds values of the server's own types: there is no JSON text
// for them, so they come back as others.
func typedJSON(columns []column) (tests []string) {
	for _, c := range columns {
		if c.kind == "json" {
			tests = append(tests, fmt.Sprintf("coalesce(json_storage_size(%[1]s) - json_storage_free(%[1]s) <> "+
				"json_storage_size(CAST(CAST(%[1]s AS CHAR CHARACTER SET utf8mb4) AS JSON)), 0)", quote(c.name)))
		}
	}
	return tests
}

// withPeriod has the columns that say since and until when a row was current, which
// are hidden where the table does not name them.
func withPeriod(columns []column) []column {
	columns = slices.Clone(columns)
	named := false
	for i := range columns {
		if columns[i].period {
			columns[i].generated, named = false, true
		}
	}
	if named {
		return columns
	}
	return append(columns, column{name: "row_start", kind: "timestamp", period: true}, column{name: "row_end",
		kind: "timestamp", period: true})
}

// ranges lets several readers share a large table, by ranges of its primary key, where
// that is a number.
func (r *catalogReader) ranges(ctx context.Context, t *table, e *engine.Table, h *handle) error {
	if r.s.workers() < 2 || t.bytes < 32<<20 || t.versioned {
		return nil
	}
	if h.key = t.counted(); h.key == "" {
		return nil
	}
	rows, err := r.c.rows(ctx, "SELECT min("+h.key+"), max("+h.key+") FROM "+quote(t.name))
	if err != nil || rows[0][0] == "" {
		return err
	}
	if h.first, err = strconv.ParseInt(rows[0][0], 10, 64); err != nil {
		return err
	}
	last, err := strconv.ParseInt(rows[0][1], 10, 64)
	// With keys further apart, ranges of equal length say little.
	if n := uint64(last) - uint64(h.first); n < 1<<50 {
		e.Blocks, e.Shares = int64(n)+1, r.s.workers()
	}
	return err
}

// Reader lends a connection of the pin.
func (p *snapshot) Reader(ctx context.Context) (engine.Reader, error) {
	c, err := p.borrow(ctx)
	if err != nil {
		return nil, err
	}
	if _, err := c.exec(ctx, "SET NAMES binary"); err != nil {
		p.back(c)
		return nil, err
	}
	return &reader{p, c}, nil
}

type reader struct {
	p *snapshot
	c *conn
}

func (r *reader) Close() error {
	_, err := r.c.exec(context.Background(), "SET NAMES utf8mb4")
	r.p.back(r.c)
	return err
}

// piece is the length at which a row is handed on before it is complete.
const piece = 128 << 10

// Read reads a table, or a range of its keys, and writes each row as SQL.
func (r *reader) Read(ctx context.Context, t *engine.Table, part engine.Part, to engine.Rows) error {
	h := t.Handle.(*handle)
	query := "SELECT " + strings.Join(slices.Concat(h.asked, h.beside), ", ") + " FROM " + h.table
	if t.Condition != "" {
		query += " WHERE (" + t.Condition + ")"
	}
	if h.key != "" && t.Blocks > 0 {
		switch {
		case part.From > 0 && part.To > 0:
			query += fmt.Sprintf(" WHERE %s >= %d AND %s < %d", h.key, h.first+part.From, h.key, h.first+part.To)
		case part.From > 0:
			query += fmt.Sprintf(" WHERE %s >= %d", h.key, h.first+part.From)
		case part.To > 0:
			query += fmt.Sprintf(" WHERE %s < %d", h.key, h.first+part.To)
		}
	}
	var long []longOne
	w := r.writer(h, to)
	err := r.c.each(ctx, query, func(values []driver.Value) error {
		one, err := w.row(values)
		if one != nil {
			long = append(long, *one)
		}
		return err
	})
	w.tell(t.ID)
	for _, one := range long {
		if err == nil {
			err = r.readLong(ctx, h, one, to)
		}
	}
	if err != nil && ctx.Err() == nil {
		return fmt.Errorf("reading %s: %w", t.ID, err)
	}
	return err
}

// rowWriter writes the rows of a table as SQL.
type rowWriter struct {
	r     *reader
	h     *handle
	to    engine.Rows
	text  []byte // of a row
	typed int64  // rows with JSON that holds values of the server's own types
}

func (r *reader) writer(h *handle, to engine.Rows) *rowWriter {
	return &rowWriter{r: r, h: h, to: to, text: make([]byte, 0, 2*piece)}
}

// row writes a row, or tells that it is passed over.
func (w *rowWriter) row(values []driver.Value) (*longOne, error) {
	h := w.h
	if h.generated {
		w.to.Beside([]byte(text(values[len(values)-1])))
	}
	if h.typed && text(values[len(h.forms)]) == "1" {
		w.typed++
	}
	if one, yes := h.passed(values); yes {
		return &one, nil
	}
	row := append(w.text[:0], '(')
	for i, f := range h.forms {
		if i > 0 {
			row = append(row, ',')
		}
		var err error
		if row, err = appendValue(row, values[i], f, w.to); err != nil {
			return nil, err
		}
	}
	w.text = append(row, ')')
	return nil, w.to.Row(w.text, false)
}

// tell tells of what only reading the rows showed.
func (w *rowWriter) tell(table string) {
	if w.typed > 0 {
		w.r.p.tellTyped(table, w.typed)
	}
}

func appendValue(row []byte, v driver.Value, f form, to engine.Rows) ([]byte, error) {
	switch v := v.(type) {
	case nil:
		return append(row, "NULL"...), nil
	case int64:
		return strconv.AppendInt(row, v, 10), nil
	case uint64:
		return strconv.AppendUint(row, v, 10), nil
	case float64:
		return strconv.AppendFloat(row, v, 'g', -1, 64), nil
	case float32:
		return strconv.AppendFloat(row, float64(v), 'g', -1, 64), nil
	case []byte:
		return appendBytes(row, v, f, to)
	}
	return row, fmt.Errorf("a value of the type %T", v)
}

// appendBytes writes a text or bytes; a long one in pieces.
func appendBytes(row, v []byte, f form, to engine.Rows) ([]byte, error) {
	encode, tail := appendEscaped, "'"
	if f == inOwn && slices.ContainsFunc(v, control) {
		f = hexa
	}
	switch f {
	case number:
		return append(row, v...), nil
	case member:
		if len(v) == 0 {
			return append(row, '0'), nil
		}
		row = append(row, '\'')
	case plainly, inOwn:
		row = append(row, '\'')
	case ascii:
		row = append(row, "_ascii'"...)
	case inUTF8:
		row = append(row, "_utf8mb4'"...)
	case hexa:
		row, encode = append(row, "x'"...), hex.AppendEncode
	}
	row, err := appendLong(row, v, encode, to)
	return append(row, tail...), err
}

// appendLong hands on what has become long, piece by piece.
func appendLong(row, v []byte, encode func(dst, v []byte) []byte, to engine.Rows) ([]byte, error) {
	for len(v) > piece/2 {
		row = encode(row, v[:piece/2])
		v = v[piece/2:]
		if len(row) >= piece {
			if err := to.Row(row, true); err != nil {
				return row, err
			}
			row = row[:0]
		}
	}
	return encode(row, v), nil
}

// control says whether a byte is one that nobody should find in a file.
func control(c byte) bool { return (c < ' ' || c == 0x7f) && escapes[c] == 0 }
