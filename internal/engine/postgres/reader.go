package postgres

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// Reader opens a reader. Its connection is taken over from pgx after log-in:
// reading the COPY stream straight from the socket keeps a value of any length
// out of memory and saves a copy of every row.
func (p *snapshot) Reader(ctx context.Context) (engine.Reader, error) {
	c, err := p.join(ctx)
	if err != nil {
		return nil, err
	}
	h, err := c.PgConn().Hijack()
	if err != nil {
		closeConn(c)
		return nil, err
	}
	if n := h.Frontend.ReadBufferLen(); n != 0 {
		h.Conn.Close()
		return nil, fmt.Errorf("the server sent %d bytes that nobody asked for", n)
	}
	return &reader{snap: p, conn: h.Conn, in: bufio.NewReaderSize(h.Conn, 256<<10)}, nil
}

type reader struct {
	snap *snapshot
	conn net.Conn
	in   *bufio.Reader
}

// Close logs out.
func (r *reader) Close() error {
	r.conn.SetDeadline(time.Now().Add(time.Second))
	r.conn.Write([]byte{'X', 0, 0, 0, 4})
	return r.conn.Close()
}

// Read copies a table's rows out, in the text form of COPY.
func (r *reader) Read(ctx context.Context, t *engine.Table, p engine.Part, to engine.Rows) error {
	h := t.Handle.(handle).where(t.Condition)
	return r.reading(ctx, t, func(on link) error { return h.rows(on, p, to) })
}

// reading reads a table over the connection that can: the reader's own, or the one that holds the snapshot.
func (r *reader) reading(ctx context.Context, t *engine.Table, read func(link) error) error {
	stop := context.AfterFunc(ctx, func() { r.conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	free, err := r.lock(t.Handle.(handle).table)
	switch {
	case err != nil:
	case free:
		err = read(r)
	default:
		err = r.snap.lend(ctx, read)
	}
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if err != nil {
		return readFailure(t.ID, err)
	}
	return nil
}

// where is the handle of those rows that meet a condition.
func (h handle) where(condition string) handle {
	switch {
	case condition == "":
	case h.query != "":
		h.query += " AND (" + condition + ")"
	case h.condition != "":
		h.condition += " AND (" + condition + ")"
	default:
		h.condition = "(" + condition + ")"
	}
	return h
}

// link is a connection that copies rows out: a reader's own, or the one that holds the
// snapshot.
type link interface {
	copy(sql string, to engine.Rows) error
	encode(encoding string) error // empty: the usual one
}

// copy implements link.
func (r *reader) copy(sql string, to engine.Rows) error { return r.copyOut(sql, to) }

// encode implements link.
func (r *reader) encode(encoding string) error {
	if encoding == "" {
		encoding = "UTF8"
	}
	return r.copyOut(setEncoding(encoding), nil)
}

// rows copies rows out in their encoding, and the long ones at the end. The encoding is set by a
// statement of its own: a statement is read in the encoding that it came in.
func (h handle) rows(on link, p engine.Part, to engine.Rows) error {
	if h.encoding != "" {
		if err := on.encode(h.encoding); err != nil {
			return err
		}
	}
	if h.generated == "" && h.long == nil {
		if err := on.copy(h.copySQL(p), to); err != nil {
			return err
		}
	} else {
		rows := &prefixed{to: to, digest: h.generated != "", places: h.long != nil}
		if err := on.copy(h.copySQL(p), rows); err != nil {
			return err
		}
		for _, place := range rows.long {
			if err := h.long.read(on, " FROM ONLY "+h.table+" WHERE ctid = "+literal(place), to); err != nil {
				return err
			}
		}
	}
	if h.encoding != "" {
		return on.encode("")
	}
	return nil
}

func setEncoding(name string) string { return "SET client_encoding = '" + name + "';\n" }

// lock takes the lock that reading takes, if it can be had at once. It cannot where
// somebody waits to change the table: he waits for the session that holds the
// snapshot, and that one for its readers. To wait in his queue would be for ever.
func (r *reader) lock(table string) (bool, error) {
	if table == "" {
		return true, nil
	}
	err := r.copyOut("SAVEPOINT lock; LOCK TABLE ONLY "+table+" IN ACCESS SHARE MODE NOWAIT; RELEASE lock", nil)
	if pg, ok := err.(*pgconn.PgError); ok && pg.Code == "55P03" {
		return false, r.copyOut("ROLLBACK TO lock", nil)
	}
	return true, err
}

// lend copies rows out over the session that holds the snapshot, and the locks
// already.
func (p *snapshot) lend(ctx context.Context, read func(link) error) error {
	p.reading.Lock()
	defer p.reading.Unlock()
	return read(&lent{ctx, p.c, p.c.PgConn().ParameterStatus("client_encoding")})
}

// lent is that session while a reader borrows it.
type lent struct {
	ctx   context.Context
	c     *pgx.Conn
	usual string // encoding
}

// copy implements link.
func (l *lent) copy(sql string, to engine.Rows) error {
	_, err := l.c.PgConn().CopyTo(l.ctx, rowWriter{to}, sql)
	return err
}

// encode implements link.
func (l *lent) encode(encoding string) error {
	if encoding == "" {
		encoding = l.usual
	}
	_, err := l.c.Exec(l.ctx, setEncoding(encoding))
	return err
}

// rowWriter hands on rows: the server sends each as one message.
type rowWriter struct{ to engine.Rows }

func (w rowWriter) Write(row []byte) (int, error) {
	return len(row), w.to.Row(bytes.TrimSuffix(row, []byte{'\n'}), false)
}

// handle is what reading a table takes: its name and its columns, as SQL, or a query
// of its own.
type handle struct {
	table, columns, query string
	condition             string    // on the rows
	encoding              string    // of the rows, where it is not the session's
	generated             string    // columns whose values are read and not written, as SQL
	long                  *longRows // where there can be rows that are too long to be copied; else nil
	key                   []int     // places of the key's columns among those that are dumped
}

// selected is the list of what is asked for.
func (h handle) selected() string {
	var list []string
	columns := h.columns
	if h.long != nil {
		var place string
		place, columns = h.long.passing()
		list = append(list, place)
	}
	if h.generated != "" {
		list = append(list, "md5(ROW("+h.generated+")::text)")
	}
	if columns != "" {
		list = append(list, columns)
	}
	return strings.Join(list, ", ")
}

func (h handle) copySQL(p engine.Part) string {
	if h.query != "" {
		return "COPY (" + h.query + ") TO STDOUT"
	}
	whole := p == (engine.Part{}) && h.condition == ""
	if whole && h.generated == "" && h.long == nil {
		list := ""
		if h.columns != "" {
			list = " (" + h.columns + ")"
		}
		return "COPY " + h.table + list + " TO STDOUT"
	}
	where := ""
	switch {
	case h.condition != "":
		where = " WHERE " + h.condition
	case !whole:
		where = fmt.Sprintf(" WHERE ctid >= '(%d,0)'", p.From)
		if p.To != 0 {
			where += fmt.Sprintf(" AND ctid < '(%d,0)'", p.To)
		}
	}
	return "COPY (SELECT " + h.selected() + " FROM ONLY " + h.table + where + ") TO STDOUT"
}

func readFailure(table string, err error) error {
	if pg, ok := err.(*pgconn.PgError); ok {
		if pg.Code == "42501" {
			return fault.New("rights-missing", nil, "cannot read %s: %s", table, pg.Message).
				Advise("'grainkeep grants' prints the SQL that gives this user what a dump needs")
		}
		return fault.New("read-failed", nil, "the server failed while reading %s: %s (%s)", table, pg.Message, pg.Code)
	}
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		err = fmt.Errorf("the server closed the connection")
	}
	if _, ok := err.(net.Error); ok || err.Error() == "the server closed the connection" {
		return fault.New("connection-lost", err, "the connection was lost while reading %s", table).
			Advise("look into the server's log; nothing was dumped")
	}
	return fmt.Errorf("%s: %w", table, err)
}

func (r *reader) copyOut(sql string, to engine.Rows) error {
	msg, err := (&pgproto3.Query{String: sql}).Encode(nil)
	if err != nil {
		return err
	}
	if _, err := r.conn.Write(msg); err != nil {
		return err
	}
	var failed error
	for {
		head, err := r.in.Peek(5)
		if err != nil {
			return err
		}
		kind, length := head[0], int(binary.BigEndian.Uint32(head[1:]))-4
		r.in.Discard(5)
		switch kind {
		case 'd':
			err = r.row(length, to)
		case 'E':
			failed, err = r.serverError(length)
		case 'Z':
			_, err = r.in.Discard(length)
			if err == nil {
				return failed
			}
		case 'H', 'c', 'C', 'N', 'S':
			_, err = r.in.Discard(length)
		default:
			return fmt.Errorf("the server sent a message of kind %q in the middle of a copy", kind)
		}
		if err != nil {
			return err
		}
	}
}

// row hands on one row; the server sends each as one message that ends in a line
// feed.
func (r *reader) row(length int, to engine.Rows) error {
	if length == 0 {
		return nil
	}
	for length > r.in.Size() {
		part, err := r.in.Peek(r.in.Size())
		if err != nil {
			return err
		}
		if err := to.Row(part, true); err != nil {
			return err
		}
		length -= len(part)
		r.in.Discard(len(part))
	}
	part, err := r.in.Peek(length)
	if err != nil {
		return err
	}
	if part[length-1] == '\n' {
		part = part[:length-1]
	}
	err = to.Row(part, false)
	r.in.Discard(length)
	return err
}

func (r *reader) serverError(length int) (error, error) {
	body := make([]byte, length)
	if _, err := io.ReadFull(r.in, body); err != nil {
		return nil, err
	}
	var e pgproto3.ErrorResponse
	if err := e.Decode(body); err != nil {
		return nil, err
	}
	return pgconn.ErrorResponseToPgError(&e), nil
}
