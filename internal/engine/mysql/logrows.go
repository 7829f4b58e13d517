package mysql

import (
	"bytes"
	"fmt"
	"slices"

	logclient "github.com/go-mysql-org/go-mysql/mysql"
	"github.com/go-mysql-org/go-mysql/replication"

	"grainkeep/internal/engine"
)

// Flags of events of rows.
const (
	keysOff    = 2  // the session had foreign_key_checks off
	keysLogged = 16 // MySQL from 9.6 on: what foreign keys do to rows is in the log, as events of their own
)

// rowsOf takes an event of rows.
func (r *logReader) rowsOf(h *replication.EventHeader, e *replication.RowsEvent) error {
	if r.to == nil || string(e.Table.Schema) != r.database {
		return nil
	}
	t := r.tables[string(e.Table.Table)]
	if t == nil {
		return nil
	}
	c := r.made[t]
	if c == nil {
		c = newLogged(t, r.to)
		c.maria = r.maria
		r.made[t] = c
	}
	c.e, c.body, c.lines, c.touched = e, r.body, c.lines[:0], engine.Touched{}
	if e.Flags&keysLogged == 0 && r.logsKeys {
		r.loseActed("foreign keys acted on its rows without the log telling of it, before the server was started in another way")
	}
	c.partial = h.EventType == replication.PARTIAL_UPDATE_ROWS_EVENT
	switch h.EventType {
	case replication.MARIADB_WRITE_ROWS_COMPRESSED_EVENT_V1, replication.MARIADB_UPDATE_ROWS_COMPRESSED_EVENT_V1,
		replication.MARIADB_DELETE_ROWS_COMPRESSED_EVENT_V1:
		var err error
		if c.body, err = logclient.DecompressMariadbData(c.body); err != nil {
			return engine.Unusable("compressed rows of the log cannot be read: %v", err)
		}
	}
	why := c.fits()
	if why == "" {
		why = c.rows()
	}
	if why != "" {
		r.to.Forget()
		r.lose(t, why)
		return nil
	}
	r.wrote[t] = true
	if len(c.lines) == 0 {
		return nil
	}
	return r.to.Change(t, c.lines, c.touched)
}

// logged turns events of rows of a table into statements, one after the other.
type logged struct {
	t     *engine.Table
	h     *handle
	names []string // of the columns, quoted
	forms []form   // in which they are written
	keys  []int    // where those of the key are

	kinds []byte // of the columns in the log, and more about them: they were found to fit
	metas []uint16

	e       *replication.RowsEvent
	body    []byte
	partial bool // JSON may come as what changed in it
	maria   bool
	key     []byte          // of the last image that was told
	twice   map[string]bool // keys of rows that foreign keys removed in the transaction under way

	to      engine.ChangeSink
	lines   []byte
	touched engine.Touched
	images  [2]image
	row     []byte // the text of one
}

func newLogged(t *engine.Table, to engine.ChangeSink) *logged {
	c := &logged{t: t, h: t.Handle.(*handle), to: to}
	for i := range c.h.all {
		_, f := c.h.all[i].read()
		c.names, c.forms = append(c.names, quote(c.h.all[i].name)), append(c.forms, f)
	}
	for _, k := range c.h.inOrder {
		c.keys = append(c.keys, slices.IndexFunc(c.h.all, func(o column) bool { return o.name == k.name }))
	}
	return c
}

// fits says why the event does not go with the table's definition; empty: it does.
func (c *logged) fits() string {
	if bytes.Equal(c.kinds, c.e.Table.ColumnType) && slices.Equal(c.metas, c.e.Table.ColumnMeta) && c.kinds != nil {
		return "" // as the one before
	}
	if int(c.e.ColumnCount) != len(c.h.all) || len(c.e.Table.ColumnType) != len(c.h.all) {
		return fmt.Sprintf("the log shows %d columns of it, and it has %d", c.e.ColumnCount, len(c.h.all))
	}
	for i := range c.h.all {
		col := &c.h.all[i]
		if kind := logKind(c.e.Table.ColumnType[i], c.e.Table.ColumnMeta[i]); !col.generated &&
			!bytes.Contains(col.inLog(), []byte{kind}) {
			return fmt.Sprintf("the log shows its column %s in a form of its own (%d)", col.name, kind)
		}
	}
	c.kinds, c.metas = slices.Clone(c.e.Table.ColumnType), slices.Clone(c.e.Table.ColumnMeta)
	return ""
}

// image is a row as an event has it: of each column, whether it is there, and its bytes; none: it is NULL.
type image struct {
	there []bool
	value [][]byte
	json  []bool   // of JSON: the bytes say what changed; nil: they do not
	texts [][]byte // the values as SQL
	all   []byte   // those of them that were written for this row
}

// rows makes the statements, and says why it cannot; empty: it could.
func (c *logged) rows() (why string) {
	defer func() {
		if x := recover(); x != nil { // a value that goes beyond the event's end
			why = fmt.Sprintf("an event of the log cannot be read: %v", x)
		}
	}()
	off := c.e.Flags&(keysOff|keysLogged) != 0 // what is in the log is not to be done twice
	if off {
		c.lines = append(c.lines, "SET foreign_key_checks = 0;\n"...)
	}
	head := len(c.lines)
	kind := c.e.Type()
	if c.partial {
		kind = replication.EnumRowsEventTypeUpdate
	}
	switch kind {
	case replication.EnumRowsEventTypeInsert:
		why = c.inserts()
	case replication.EnumRowsEventTypeUpdate:
		why = c.updates()
	case replication.EnumRowsEventTypeDelete:
		why = c.deletes()
	default:
		why = "the log has an event of rows of an unknown kind"
	}
	if len(c.lines) == head {
		c.lines = c.lines[:0]
	} else if off {
		c.lines = append(c.lines, "SET foreign_key_checks = 1;\n"...)
	}
	return why
}

// inserts writes rows, many in one statement.
func (c *logged) inserts() string {
	first, begin := true, 0
	var rows int64
	for len(c.body) > 0 {
		row := c.next(&c.images[0], c.e.ColumnBitmap1, false)
		if why := c.texts(row, nil); why != "" {
			return why
		}
		if first {
			begin = len(c.lines)
			c.lines = append(c.listed(append(c.lines, "INSERT INTO "+c.t.ID+" ("...), row), ") VALUES "...)
		} else {
			c.lines = append(c.lines, ", "...)
		}
		first = false
		at := len(c.lines)
		c.lines = append(c.lines, '(')
		for i := range c.h.all {
			if row.there[i] && !c.h.all[i].generated {
				if len(c.lines) > at+1 {
					c.lines = append(c.lines, ',')
				}
				c.lines = append(c.lines, row.texts[i]...)
			}
		}
		c.lines = append(c.lines, ')')
		c.image(row, c.tell(row, false))
		if len(c.twice) > 0 && len(c.key) > 0 { // it is there again
			delete(c.twice, string(c.key))
		}
		rows++
		if len(c.lines)-begin >= groupOf {
			c.lines = engine.AppendRows(c.lines, rows)
			c.touched.Inserted, rows, first = c.touched.Inserted+rows, 0, true
		}
	}
	if rows > 0 {
		c.lines = engine.AppendRows(c.lines, rows)
		c.touched.Inserted += rows
	}
	return ""
}

// listed lists the columns that a row has and that can be written.
func (c *logged) listed(dst []byte, row *image) []byte {
	n := 0
	for i := range c.h.all {
		if !row.there[i] || c.h.all[i].generated {
			continue
		}
		if n++; n > 1 {
			dst = append(dst, ", "...)
		}
		dst = append(dst, c.names[i]...)
	}
	return dst
}

// updates writes what changed in each row.
func (c *logged) updates() string {
	for len(c.body) > 0 {
		before := c.next(&c.images[0], c.e.ColumnBitmap1, false)
		after := c.next(&c.images[1], c.e.ColumnBitmap2, c.partial)
		why := c.texts(before, nil)
		if why == "" {
			why = c.texts(after, before)
		}
		if why != "" {
			return why
		}
		if c.maria && slices.Contains(after.there, false) && slices.Contains(before.there, false) {
			return "the log has not all columns of its rows (binlog_row_image), and MariaDB then logs a REPLACE so that it cannot be replayed"
		}
		c.tell(before, true)
		c.image(after, c.tell(after, false))
		if slices.ContainsFunc(c.keys, func(i int) bool { return c.differs(before, after, i) }) {
			c.gone(before)
		}
		begin := len(c.lines)
		c.lines = append(c.lines, "UPDATE "+c.t.ID+" SET "...)
		n := 0
		for i := range c.h.all {
			if c.differs(before, after, i) {
				if n++; n > 1 {
					c.lines = append(c.lines, ", "...)
				}
				c.lines = append(append(append(c.lines, c.names[i]...), " = "...), after.texts[i]...)
			}
		}
		if n == 0 {
			c.lines = c.lines[:begin]
			continue
		}
		for i := range c.h.all {
			if c.h.all[i].touched && !c.differs(before, after, i) { // else the server would do it by itself
				c.lines = append(append(append(append(c.lines, ", "...), c.names[i]...), " = "...), c.names[i]...)
			}
		}
		if why := c.where(before); why != "" {
			return why
		}
		c.touched.Updated++
	}
	return ""
}

// differs says whether an update writes a column.
func (c *logged) differs(before, after *image, i int) bool {
	return after.there[i] && !c.h.all[i].generated && !(before.there[i] && bytes.Equal(before.texts[i], after.texts[i]))
}

// deletes removes rows.
func (c *logged) deletes() string {
	for len(c.body) > 0 {
		row := c.next(&c.images[0], c.e.ColumnBitmap1, false)
		if why := c.texts(row, nil); why != "" {
			return why
		}
		if again, why := c.again(row); why != "" || again {
			if why != "" {
				return why
			}
			continue
		}
		c.tell(row, true)
		c.gone(row)
		c.lines = append(c.lines, "DELETE FROM "+c.t.ID...)
		if why := c.where(row); why != "" {
			return why
		}
		c.touched.Removed++
	}
	return ""
}

// mostTwice bounds the keys of rows of a transaction that foreign keys removed.
const mostTwice = 1_000_000

// again says whether a row was removed already in this transaction. A statement that removes rows of a parent and of its
// children has those of the children in the log twice: as what the foreign key did, and as its own.
func (c *logged) again(row *image) (bool, string) {
	if c.e.Flags&keysLogged == 0 || !c.h.acted {
		return false, ""
	}
	key, why := c.named(c.key[:0], row)
	if c.key = key; why != "" {
		return false, why
	}
	if c.e.Flags&keysOff == 0 {
		return c.twice[string(key)], ""
	}
	if c.twice == nil {
		c.twice = map[string]bool{}
	}
	if c.twice[string(key)] = true; len(c.twice) > mostTwice {
		return false, "foreign keys removed too many of its rows in one transaction"
	}
	return false, ""
}

// image tells what the row of a key is, where the image names it; nil: it is not all known.
func (c *logged) image(row *image, text []byte) {
	if key, why := c.named(c.key[:0], row); why == "" {
		c.key = key
		c.to.Image(c.t, key, text, true)
	}
}

// gone tells that there is no row of a key any more.
func (c *logged) gone(row *image) {
	if key, why := c.named(c.key[:0], row); why == "" {
		c.key = key
		c.to.Image(c.t, key, nil, false)
	}
}

// tell tells the text of a row, as reading the table gives it, where the image has all of it; nil: it does not.
func (c *logged) tell(row *image, removed bool) []byte {
	c.row = append(c.row[:0], '(')
	for i := range c.h.all {
		if c.h.all[i].generated {
			continue
		}
		if !row.there[i] || !c.h.told[i] && row.value[i] != nil {
			c.touched.Untold = true
			return nil
		}
		if len(c.row) > 1 {
			c.row = append(c.row, ',')
		}
		c.row = append(c.row, row.texts[i]...)
	}
	c.row = append(c.row, ')')
	c.to.Row(c.row, removed)
	return c.row
}

// texts writes the values of a row as SQL. Those that are as in another row, which is written already, are taken from
// there.
func (c *logged) texts(row, other *image) (why string) {
	row.all = row.all[:0]
	for i := range c.h.all {
		switch at := len(row.all); {
		case !row.there[i] || c.h.all[i].generated:
		case other != nil && other.there[i] && row.json == nil && row.value[i] != nil && other.value[i] != nil &&
			bytes.Equal(row.value[i], other.value[i]):
			row.texts[i] = other.texts[i]
		default:
			if row.all, why = c.value(row.all, i, row); why != "" {
				return why
			}
			row.texts[i] = row.all[at:len(row.all):len(row.all)]
		}
	}
	return ""
}

// where names a row by its key, and ends the statement.
func (c *logged) where(row *image) (why string) {
	if c.lines, why = c.named(append(c.lines, " WHERE "...), row); why != "" {
		return why
	}
	c.lines = engine.AppendRows(c.lines, 1)
	return ""
}

// named is the condition that means a row by its key, or why there is none.
func (c *logged) named(dst []byte, row *image) ([]byte, string) {
	for n, k := range c.h.inOrder {
		i := c.keys[n]
		if !row.there[i] || row.value[i] == nil {
			return dst, "the log does not name its rows by the key"
		}
		if n > 0 {
			dst = append(dst, " AND "...)
		}
		if k.plainNumber() {
			dst = append(append(append(dst, c.names[i]...), " = "...), row.texts[i]...)
			continue
		}
		raw := row.value[i]
		if k.kind == "binary" {
			raw = append(raw, make([]byte, max(0, k.width()-len(raw)))...)
		}
		is := k.is(string(bytes.Trim(row.texts[i], "'")), raw)
		if is == "" || bytes.HasPrefix([]byte(is), []byte("convert(")) {
			return dst, "a row of it has a key that cannot be named"
		}
		dst = append(dst, is...)
	}
	return dst, ""
}

// next takes the next image of a row. It panics where the event ends too early.
func (c *logged) next(row *image, bitmap []byte, after bool) *image {
	n := len(c.h.all)
	if row.there == nil {
		row.there, row.value, row.texts = make([]bool, n), make([][]byte, n), make([][]byte, n)
	}
	row.json = nil
	if after { // how JSON is written, and of which columns it is what changed
		options, _, k := logclient.LengthEncodedInt(c.body)
		c.body = c.body[k:]
		if options&1 != 0 {
			row.json = make([]bool, n)
			jsons := 0
			for i := range n {
				if c.e.Table.ColumnType[i] == logclient.MYSQL_TYPE_JSON {
					row.json[i] = bit(c.body, jsons)
					jsons++
				}
			}
			c.body = c.body[(jsons+7)/8:]
		}
	}
	count := 0
	for i := range n {
		if row.there[i] = bit(bitmap, i); row.there[i] {
			count++
		}
	}
	nulls := c.body[:(count+7)/8]
	c.body = c.body[len(nulls):]
	at := 0
	for i := range n {
		if !row.there[i] {
			continue
		}
		if row.value[i] = nil; !bit(nulls, at) {
			head, length := logLength(c.e.Table.ColumnType[i], c.e.Table.ColumnMeta[i], c.body)
			row.value[i] = c.body[head : head+length : head+length]
			c.body = c.body[head+length:]
		}
		at++
	}
	return row
}

func bit(bits []byte, i int) bool { return bits[i/8]&(1<<(i%8)) != 0 }
