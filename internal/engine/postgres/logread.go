package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pglogrepl"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// logReader reads the log between two places.
type logReader struct {
	conn       *pgconn.PgConn
	to         engine.ChangeSink
	begin, end pglogrepl.LSN
	tables     map[uint32]*pgTable // those that are followed, whatever they were called meanwhile
	relations  map[uint32]*relation

	mark   string // that the log must have, before any other of the job's; empty: it is met, or there is none
	marked string // what marks of the job are called

	inside  bool // a transaction
	done    bool
	commit  engine.Commit
	pending []byte   // an INSERT without its end
	rows    int64    // in it
	into    *pgTable // and where they go
	lines   []byte
	row     []byte
	key     []byte
	told    engine.Touched
}

// pgTable is a table that is followed.
type pgTable struct {
	*engine.Table
	of followedRow
}

// relation is what the log says of a table.
type relation struct {
	table *pgTable // nil: it is not followed
	names []string // of its columns
	keys  []int    // where those of the key are among the table's
}

// pause is how long is waited before the server is asked again how far it is.
const pause = 20 * time.Millisecond

// read reads until the end; the slot that came with the snapshot goes first, since the connection is needed. What was
// read up to the beginning is confirmed: it is in a dump that is in place.
func (r *logReader) read(ctx context.Context, slot, now, publication string, silence time.Duration) error {
	if err := pglogrepl.DropReplicationSlot(ctx, r.conn, now,
		pglogrepl.DropReplicationSlotOptions{Wait: true}); err != nil {
		return slotTrouble(err)
	}
	args := []string{"proto_version '1'", "publication_names " + literal(publication)}
	if r.mark != "" {
		args = append(args, "messages 'true'")
	}
	err := pglogrepl.StartReplication(ctx, r.conn, slot, r.begin, pglogrepl.StartReplicationOptions{PluginArgs: args})
	if err != nil {
		return refusedLog(err)
	}
	if err := r.ask(ctx); err != nil {
		return err
	}
	for !r.done {
		wait, cancel := context.WithTimeout(ctx, silence)
		message, err := r.conn.ReceiveMessage(wait)
		cancel()
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err != nil {
			return refusedLog(err)
		}
		if err := r.message(ctx, message); err != nil {
			return err
		}
	}
	return nil
}

// refusedLog says why the server does not give its log. A connection that is lost says nothing of the log.
func refusedLog(err error) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) && !strings.HasPrefix(pg.Code, operatorIntervenes) {
		return engine.Unusable("the server does not give its log: %s", pg.Message)
	}
	return fault.New(engine.Trouble, engine.RootCause(err),
		"the connection to the server was lost while its log was read").Advise("look into the server's log")
}

// operatorIntervenes begins the codes of errors that end a session from outside.
const operatorIntervenes = "57P"

// ask tells the server what is in place, and asks how far it is.
func (r *logReader) ask(ctx context.Context) error {
	err := pglogrepl.SendStandbyStatusUpdate(ctx, r.conn, pglogrepl.StandbyStatusUpdate{WALWritePosition: r.begin,
		WALFlushPosition: r.begin, WALApplyPosition: r.begin, ReplyRequested: true})
	if err != nil {
		return refusedLog(err)
	}
	return nil
}

func (r *logReader) message(ctx context.Context, message pgproto3.BackendMessage) error {
	switch m := message.(type) {
	case *pgproto3.ErrorResponse:
		return refusedLog(pgconn.ErrorResponseToPgError(m))
	case *pgproto3.CopyData:
		if len(m.Data) == 0 {
			return engine.Unusable("the server sent an empty message of its log")
		}
		switch m.Data[0] {
		case pglogrepl.PrimaryKeepaliveMessageByteID:
			alive, err := pglogrepl.ParsePrimaryKeepaliveMessage(m.Data[1:])
			if err != nil {
				return engine.Unusable("a message of the log cannot be read: %v", err)
			}
			if alive.ServerWALEnd >= r.end && !r.inside {
				r.done = true
				return nil
			}
			if !alive.ReplyRequested {
				time.Sleep(pause)
			}
			return r.ask(ctx)
		case pglogrepl.XLogDataByteID:
			data, err := pglogrepl.ParseXLogData(m.Data[1:])
			if err != nil {
				return engine.Unusable("a message of the log cannot be read: %v", err)
			}
			return r.decoded(data.WALData)
		}
	case *pgproto3.CopyDone, *pgproto3.CommandComplete:
		return engine.Unusable("the server ended its log")
	}
	return nil
}

// decoded takes a message of the output plug-in.
func (r *logReader) decoded(data []byte) error {
	message, err := pglogrepl.Parse(data)
	if err != nil {
		return engine.Unusable("a change in the log cannot be read: %v", err)
	}
	switch m := message.(type) {
	case *pglogrepl.BeginMessage:
		if m.FinalLSN >= r.end { // the snapshot does not have it
			r.done = true
			return nil
		}
		r.inside = true
		r.commit = engine.Commit{ID: fmt.Sprint(m.Xid)}
	case *pglogrepl.CommitMessage:
		r.inside = false
		if err := r.flush(); err != nil {
			return err
		}
		r.commit.Time, r.commit.Position = m.CommitTime.UTC(), m.TransactionEndLSN.String()
		return r.to.Commit(r.commit)
	case *pglogrepl.LogicalDecodingMessage:
		if r.mark == "" || m.Prefix != r.marked || m.Transactional {
			return nil
		}
		if string(m.Content) != r.mark {
			return r.met()
		}
		r.mark = ""
	case *pglogrepl.RelationMessage:
		return r.relation(m)
	case *pglogrepl.InsertMessage:
		return r.insert(m)
	case *pglogrepl.UpdateMessage:
		return r.update(m)
	case *pglogrepl.DeleteMessage:
		return r.remove(m)
	case *pglogrepl.TruncateMessage:
		for _, id := range m.RelationIDs {
			r.lose(r.relations[id], "it was emptied: truncate")
		}
	}
	return nil
}

// met fails unless the mark was met.
func (r *logReader) met() error {
	if r.mark == "" {
		return nil
	}
	return engine.Doubted("the server's log does not have the mark that the dump before left in it: it is not the log that it " +
		"was, as when the server's files were put back from an older copy")
}

// relation takes what the log says of a table.
func (r *logReader) relation(m *pglogrepl.RelationMessage) error {
	t := r.tables[m.RelationID]
	x := &relation{table: t}
	for _, c := range m.Columns {
		x.names = append(x.names, c.Name)
	}
	if r.relations[m.RelationID] = x; t == nil {
		return nil
	}
	for _, name := range t.KeyColumns {
		x.keys = append(x.keys, slices.Index(t.Columns, name))
	}
	for _, name := range t.Columns {
		if !slices.Contains(x.names, name) {
			r.lose(x, "the log shows other columns of it than it has")
			break
		}
	}
	return nil
}

// lose says of a table that it is not followed any more.
func (r *logReader) lose(x *relation, why string) {
	if x == nil || x.table == nil {
		return
	}
	if r.into == x.table {
		r.pending, r.rows, r.into = r.pending[:0], 0, nil
	}
	if r.into == nil { // what was told is of this table
		r.told = engine.Touched{}
		r.to.Forget()
	}
	delete(r.tables, x.table.of.OID)
	r.to.Lose(x.table.Table, why)
	for _, o := range r.relations {
		if o != x && o.table == x.table {
			o.table = nil
		}
	}
	x.table = nil
}

// values brings the values of a row into the order in which the table's are dumped; nil: the tuple is not of the table.
func (x *relation) values(t *pglogrepl.TupleData) []*pglogrepl.TupleDataColumn {
	if t == nil || len(t.Columns) != len(x.names) {
		return nil
	}
	list := make([]*pglogrepl.TupleDataColumn, len(x.table.Columns))
	for i, name := range x.table.Columns {
		list[i] = t.Columns[slices.Index(x.names, name)]
	}
	return list
}

// mostPending bounds an INSERT of several rows, in bytes.
const mostPending = 64 << 10

func (r *logReader) insert(m *pglogrepl.InsertMessage) error {
	x := r.relations[m.RelationID]
	if x == nil || x.table == nil {
		return nil
	}
	values := x.values(m.Tuple)
	if values == nil {
		r.lose(x, "the log has a row of it that is not like the table")
		return nil
	}
	if r.into != nil && (r.into != x.table || len(r.pending) > mostPending) {
		if err := r.flush(); err != nil {
			return err
		}
	}
	r.image(x, values, r.tell(values, false))
	if r.into == nil {
		r.into = x.table
		r.pending = append(r.pending[:0], "INSERT INTO "+x.table.ID+" ("+quoted(x.table.Columns)+") OVERRIDING SYSTEM "+
			"VALUE VALUES ("...)
	} else {
		r.pending = append(r.pending, ", ("...)
	}
	for i, v := range values {
		if i > 0 {
			r.pending = append(r.pending, ',')
		}
		r.pending = appendText(r.pending, v)
	}
	r.pending = append(r.pending, ')')
	r.rows++
	return nil
}

// flush hands on the rows that are inserted together.
func (r *logReader) flush() error {
	if r.into == nil {
		return nil
	}
	t, n := r.into, r.rows
	r.lines = engine.AppendRows(append(r.before(t), r.pending...), n)
	told := r.told
	told.Inserted = n
	r.pending, r.rows, r.into, r.told = r.pending[:0], 0, nil, engine.Touched{}
	return r.to.Change(t.Table, r.lines, told)
}

// before is what stands before a change of a table.
func (r *logReader) before(t *pgTable) []byte {
	if t.of.Deferrable { // rows may be in each other's way until the end
		return append(r.lines[:0], "SET CONSTRAINTS ALL DEFERRED;\n"...)
	}
	return r.lines[:0]
}

// tell tells the text of a row, as reading the table gives it, where the log has all of it; nil: it does not.
func (r *logReader) tell(values []*pglogrepl.TupleDataColumn, removed bool) []byte {
	row := r.text(values)
	if row == nil {
		r.told.Untold = true
		return nil
	}
	r.to.Row(row, removed)
	return row
}

// text is a row as reading the table gives it; nil: the log does not have all of it.
func (r *logReader) text(values []*pglogrepl.TupleDataColumn) []byte {
	r.row = r.row[:0]
	for i, v := range values {
		if i > 0 {
			r.row = append(r.row, '\t')
		}
		switch v.DataType {
		case pglogrepl.TupleDataTypeNull:
			r.row = append(r.row, `\N`...)
		case pglogrepl.TupleDataTypeText:
			r.row = appendCopied(r.row, v.Data)
		default:
			return nil
		}
	}
	if len(r.row) > longRow {
		return nil
	}
	return r.row
}

// image tells what the row of a key is; nil: it is not all known.
func (r *logReader) image(x *relation, values []*pglogrepl.TupleDataColumn, row []byte) {
	if key := r.keyOf(x, values); key != nil {
		r.to.Image(x.table.Table, key, row, true)
	}
}

// gone tells that there is no row of a key any more.
func (r *logReader) gone(x *relation, values []*pglogrepl.TupleDataColumn) {
	if key := r.keyOf(x, values); key != nil {
		r.to.Image(x.table.Table, key, nil, false)
	}
}

// keyOf is the key of a row, as a list of values; nil: the log does not name it.
func (r *logReader) keyOf(x *relation, values []*pglogrepl.TupleDataColumn) []byte {
	r.key = r.key[:0]
	for i, at := range x.keys {
		if values[at].DataType != pglogrepl.TupleDataTypeText {
			return nil
		}
		if i > 0 {
			r.key = append(r.key, ", "...)
		}
		r.key = appendText(r.key, values[at])
	}
	return r.key
}

func (r *logReader) update(m *pglogrepl.UpdateMessage) error {
	x := r.relations[m.RelationID]
	if x == nil || x.table == nil {
		return nil
	}
	if err := r.flush(); err != nil {
		return err
	}
	now, was := x.values(m.NewTuple), x.values(m.OldTuple)
	if now == nil || m.OldTuple != nil && was == nil {
		r.lose(x, "the log has a row of it that is not like the table")
		return nil
	}
	whole := m.OldTupleType == pglogrepl.UpdateMessageTupleTypeOld
	if whole {
		for i, v := range now { // what the log leaves out is as it was
			if v.DataType == pglogrepl.TupleDataTypeToast {
				now[i] = was[i]
			}
		}
		r.tell(was, true)
		r.image(x, now, r.tell(now, false))
	} else {
		r.told.Untold = true
		r.image(x, now, r.text(now))
	}
	if was != nil && slices.ContainsFunc(x.keys, func(at int) bool { return !same(was[at], now[at]) }) {
		r.gone(x, was)
	}
	t := x.table
	lines := append(r.before(t), "UPDATE ONLY "+t.ID+" SET "...)
	n := 0
	for i, v := range now {
		name := t.Columns[i]
		inKey := slices.Contains(t.KeyColumns, name)
		switch {
		case v.DataType == pglogrepl.TupleDataTypeToast, was == nil && inKey, (whole || inKey) && same(v, was[i]):
			continue
		case slices.Contains(t.of.Always, name): // no statement but the server's own writes it
			r.lose(x, "a row of it was changed, and the log does not tell whether the server gave "+name+" a new value")
			return nil
		}
		if n++; n > 1 {
			lines = append(lines, ", "...)
		}
		lines = appendText(append(append(lines, quote(name)...), " = "...), v)
	}
	if n == 0 {
		r.told = engine.Touched{Untold: r.told.Untold}
		return nil
	}
	key := was
	if key == nil {
		key = now
	}
	return r.named(x, lines, key, engine.Touched{Updated: 1})
}

func same(a, b *pglogrepl.TupleDataColumn) bool {
	return a.DataType == b.DataType && string(a.Data) == string(b.Data)
}

func (r *logReader) remove(m *pglogrepl.DeleteMessage) error {
	x := r.relations[m.RelationID]
	if x == nil || x.table == nil {
		return nil
	}
	if err := r.flush(); err != nil {
		return err
	}
	was := x.values(m.OldTuple)
	if was == nil {
		r.lose(x, "the log has a row of it that is not like the table")
		return nil
	}
	if m.OldTupleType == pglogrepl.DeleteMessageTupleTypeOld {
		r.tell(was, true)
	} else {
		r.told.Untold = true
	}
	r.gone(x, was)
	return r.named(x, append(r.before(x.table), "DELETE FROM ONLY "+x.table.ID...), was, engine.Touched{Removed: 1})
}

// named ends a statement by naming the row by its key.
func (r *logReader) named(x *relation, lines []byte, row []*pglogrepl.TupleDataColumn, n engine.Touched) error {
	for k, name := range x.table.KeyColumns {
		v := row[slices.Index(x.table.Columns, name)]
		if v.DataType != pglogrepl.TupleDataTypeText {
			r.lose(x, "the log does not name its rows by the key")
			return nil
		}
		word := " AND "
		if k == 0 {
			word = " WHERE "
		}
		lines = appendText(append(append(append(lines, word...), quote(name)...), " = "...), v)
	}
	r.lines = engine.AppendRows(lines, 1)
	n.Untold = r.told.Untold
	r.told = engine.Touched{}
	return r.to.Change(x.table.Table, r.lines, n)
}

func quoted(names []string) string {
	list := make([]string, len(names))
	for i, n := range names {
		list[i] = quote(n)
	}
	return strings.Join(list, ", ")
}

// appendText writes a value as SQL, on one line.
func appendText(dst []byte, v *pglogrepl.TupleDataColumn) []byte {
	if v.DataType == pglogrepl.TupleDataTypeNull {
		return append(dst, "NULL"...)
	}
	at := len(dst)
	dst = append(dst, '\'')
	escaped := false
	for _, c := range v.Data {
		switch c {
		case '\'':
			dst = append(dst, "''"...)
		case '\\':
			dst, escaped = append(dst, `\\`...), true
		case '\n':
			dst, escaped = append(dst, `\n`...), true
		case '\r':
			dst, escaped = append(dst, `\r`...), true
		default:
			dst = append(dst, c)
		}
	}
	dst = append(dst, '\'')
	if escaped {
		dst = slices.Insert(dst, at, 'E')
	}
	return dst
}

// copied are the bytes that COPY writes otherwise.
var copied = map[byte]string{'\b': `\b`, '\f': `\f`, '\n': `\n`, '\r': `\r`, '\t': `\t`, '\v': `\v`, '\\': `\\`}

// appendCopied writes a value as COPY does.
func appendCopied(dst, value []byte) []byte {
	for _, c := range value {
		if e, is := copied[c]; is {
			dst = append(dst, e...)
		} else {
			dst = append(dst, c)
		}
	}
	return dst
}
