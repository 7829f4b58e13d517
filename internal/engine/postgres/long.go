package postgres

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"

	"grainkeep/internal/engine"
)

// The server writes and reads a row as one text of at most 1 GiB, in which bytes are doubled. So a
// row whose long values are too much for that is passed over at first. Its text then ends the
// COPY, brings the values in pieces, makes the row of them, and begins the COPY again.

const (
	// longRow is how much a row may have in columns of long types to be copied as a whole, in bytes.
	// What follows is written in another form: it must depend on nothing but the row.
	longRow   = 256 << 20
	longValue = 8 << 20  // bytes; a shorter value of a row that was passed over is written whole
	longPiece = 32 << 20 // bytes of a value in one line
	// longFrom is the size of a table's long values on the server's disk, in bytes, from which on
	// they can make such a row: none of its ways to squeeze makes more than 255 of 1.
	longFrom = longRow / 255
)

const (
	longPieces = "pg_temp.grainkeep_long"
	longShort  = "pg_temp.grainkeep_row"
	longBegin  = "CREATE TEMPORARY TABLE grainkeep_long (field integer, piece integer, bytes bytea);\n"
)

// longRows is what reading and loading the long rows of a table takes.
type longRows struct {
	table    string            // as COPY names it when the rows are loaded
	columns  []string          // as SQL writes them
	wide     map[string]string // those of long types, with the type: bytea or text
	encoding string            // the database's
}

// lengths are SQL for the bytes in the columns of long types.
func (l *longRows) lengths() (list []string) {
	for _, c := range l.columns {
		if l.wide[c] != "" {
			list = append(list, "coalesce(octet_length("+c+"), 0)::bigint")
		}
	}
	return list
}

// passing is the list of columns with nothing in the place of what is too long, after the place of
// such a row, or nothing.
func (l *longRows) passing() (place, list string) {
	long := strings.Join(l.lengths(), " + ") + " > " + strconv.Itoa(longRow)
	columns := make([]string, len(l.columns))
	for i, c := range l.columns {
		columns[i] = c
		if l.wide[c] != "" {
			columns[i] = "CASE WHEN " + long + " THEN NULL ELSE " + c + " END"
		}
	}
	return "CASE WHEN " + long + " THEN ctid::text ELSE '' END", strings.Join(columns, ", ")
}

// asBytes is SQL for the bytes of a column, and fromBytes for its value.
func (l *longRows) asBytes(column string) string {
	if l.wide[column] == "bytea" {
		return column
	}
	return "convert_to(" + column + "::text, " + literal(l.encoding) + ")"
}

func (l *longRows) fromBytes(column, sql string) string {
	if l.wide[column] == "bytea" {
		return sql
	}
	return "convert_from(" + sql + ", " + literal(l.encoding) + ")"
}

// again is the statement that the row interrupts.
func (l *longRows) again() string {
	return copyHead(l.table, "("+strings.Join(l.columns, ",")+")")
}

// short is the list of columns but for some.
func (l *longRows) short(but map[string]int64) (list []string) {
	for _, c := range l.columns {
		if but[c] == 0 {
			list = append(list, c)
		}
	}
	return list
}

// statements make a table like the row, put the pieces into it, a value at a time (together
// they may be more than a row can be, until they are stored apart), and the row out of it.
func (l *longRows) statements(pieced map[string]int64) (like, row string) {
	var columns []string
	fill, apart := "", ""
	for i, c := range l.columns {
		if pieced[c] == 0 {
			columns = append(columns, c)
			continue
		}
		columns = append(columns, "NULL::"+l.wide[c]+" AS "+c)
		apart += fmt.Sprintf("ALTER TABLE %s ALTER %s SET STORAGE EXTERNAL;\n", longShort, c)
		fill += fmt.Sprintf("UPDATE %s SET %s = %s;\n", longShort, c, l.fromBytes(c, fmt.Sprintf("(SELECT string_agg("+
			"bytes, ''::bytea ORDER BY piece) FROM %s WHERE field = %d)", longPieces, i+1)))
	}
	all := strings.Join(l.columns, ", ")
	return "CREATE TEMPORARY TABLE grainkeep_row AS SELECT " + strings.Join(columns, ", ") + " FROM " + l.table +
			" LIMIT 0;\n" + apart,
		fill + "INSERT INTO " + l.table + " (" + all + ") OVERRIDING SYSTEM VALUE SELECT " + all + " FROM " +
			longShort + ";\n"
}

const longEnd = "DROP TABLE " + longPieces + ", " + longShort + ";\n"

// read writes one row; from is the table and the condition by which it is found.
func (l *longRows) read(on link, from string, to engine.Rows) error {
	pieced, err := l.measure(on, from)
	if err != nil {
		return err
	}
	part := func(text string) error { return to.Row([]byte(text), true) }
	if err := part("\\.\n" + longBegin + "COPY " + longPieces + " FROM stdin;\n"); err != nil {
		return err
	}
	for i, c := range l.columns {
		for at, n := int64(0), 1; at < pieced[c]; at, n = at+longPiece, n+1 {
			sql := fmt.Sprintf("SELECT %d, %d, substring(%s FROM %d FOR %d)", i+1, n, l.asBytes(c), at+1, longPiece)
			if err := l.one(on, sql+from, to); err != nil {
				return err
			}
		}
	}
	like, row := l.statements(pieced)
	short := strings.Join(l.short(pieced), ", ")
	if short == "" {
		row = "INSERT INTO " + longShort + " DEFAULT VALUES;\n" + row
		return to.Row([]byte("\\.\n"+like+row+longEnd+strings.TrimSuffix(l.again(), "\n")), false)
	}
	if err := part("\\.\n" + like + "COPY " + longShort + " (" + short + ") FROM stdin;\n"); err != nil {
		return err
	}
	if err := l.one(on, "SELECT "+short+from, to); err != nil {
		return err
	}
	return to.Row([]byte("\\.\n"+row+longEnd+strings.TrimSuffix(l.again(), "\n")), false)
}

// measure tells the bytes of those values that are written in pieces.
func (l *longRows) measure(on link, from string) (map[string]int64, error) {
	var text lines
	if err := on.copy("COPY (SELECT "+strings.Join(l.lengths(), ", ")+from+") TO STDOUT", &text); err != nil {
		return nil, err
	}
	if text.ends != 1 {
		return nil, fmt.Errorf("%d rows came where one was asked for", text.ends)
	}
	pieced, fields := map[string]int64{}, strings.Split(string(text.bytes), "\t")
	for _, c := range l.columns {
		if l.wide[c] == "" {
			continue
		}
		n, err := strconv.ParseInt(fields[0], 10, 64)
		if err != nil || len(fields) == 0 {
			return nil, fmt.Errorf("the lengths of a long row came as %.80q", text.bytes)
		}
		if fields = fields[1:]; n > longValue {
			pieced[c] = n
		}
	}
	return pieced, nil
}

// one writes a row of a query as a part of another.
func (l *longRows) one(on link, sql string, to engine.Rows) error {
	p := &within{to: to}
	err := on.copy("COPY ("+sql+") TO STDOUT", p)
	if err == nil && p.ends != 1 {
		err = fmt.Errorf("%d rows came where one was asked for", p.ends)
	}
	return err
}

// lines holds the rows of a short answer.
type lines struct {
	bytes []byte
	ends  int
}

// Row implements engine.Rows.
func (l *lines) Row(p []byte, more bool) error {
	if l.bytes = append(l.bytes, p...); !more {
		l.ends++
	}
	return nil
}

// Beside implements engine.Rows.
func (*lines) Beside([]byte) {}

// within writes rows as lines inside of one row.
type within struct {
	to   engine.Rows
	ends int
}

// Row implements engine.Rows.
func (w *within) Row(p []byte, more bool) error {
	err := w.to.Row(p, true)
	if err == nil && !more {
		w.ends++
		err = w.to.Row([]byte{'\n'}, true)
	}
	return err
}

// Beside implements engine.Rows.
func (*within) Beside([]byte) {}

// prefixed are rows that begin with fields of ours: the place of a long row, which is passed over,
// and a digest of the generated values.
type prefixed struct {
	to     engine.Rows
	digest bool
	places bool
	inside bool // a row
	passed bool // a long one
	long   []string
}

const digestLength = 32 // of md5's text

// Row implements engine.Rows.
func (b *prefixed) Row(p []byte, more bool) error {
	if !b.inside {
		b.passed = false
		if b.places {
			place, rest, found := bytes.Cut(p, []byte{'\t'})
			if !found {
				return fmt.Errorf("the row %.40q lacks what was asked for", p)
			}
			if b.passed = len(place) > 0; b.passed {
				b.long = append(b.long, string(place))
			}
			p = rest
		}
		if b.digest {
			if len(p) < digestLength {
				return fmt.Errorf("the row %.40q lacks what was asked for", p)
			}
			b.to.Beside(p[:digestLength])
			p = p[min(len(p), digestLength+len("\t")):]
		}
	}
	if b.inside = more; b.passed {
		return nil
	}
	return b.to.Row(p, more)
}

// Beside implements engine.Rows.
func (b *prefixed) Beside(values []byte) { b.to.Beside(values) }
