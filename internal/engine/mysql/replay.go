package mysql

import (
	"bytes"
	"context"
	"database/sql/driver"
	"io"

	sqldriver "github.com/go-sql-driver/mysql"

	"grainkeep/internal/engine"
)

// Bounds of what goes to the server at one time, and of what is committed as one: the transactions of the file are the
// source's business, and come back whole or not at all anyway.
const (
	replayBytes      = 128 << 10
	replayStatements = 400
	replayCommits    = 2000 // transactions of the source
)

// replaying is a file of changes on its way to the server.
type replaying struct {
	c     *conn
	ctx   context.Context
	which engine.Which
	seen  func(int64)

	text     []byte
	expected []expected // of the statements in it
	commits  int
	touched  engine.Touched
}

// expected is what a statement says that it touches; -1: it is a setting.
type expected struct {
	transaction, rows int64
	from, to          int // in the text
}

// Replay implements engine.Replayer.
func (s *session) Replay(ctx context.Context, text io.Reader, w engine.Which, seen func(int64)) (engine.Touched, error) {
	if _, err := s.c.exec(ctx, "BEGIN"); err != nil {
		return engine.Touched{}, err
	}
	r := &replaying{c: s.c, ctx: ctx, which: w, seen: seen}
	err := engine.ReadChanges(text, r.line)
	if err == nil {
		err = r.send()
	}
	if err == nil {
		_, err = s.c.exec(ctx, "COMMIT")
	}
	if err == nil { // the session's own settings, for what comes after
		_, err = s.c.exec(ctx, settings)
	}
	return r.touched, err
}

// line takes a line of the file.
func (r *replaying) line(l engine.ChangeLine) error {
	switch {
	case l.Transaction == 0:
		_, err := r.c.exec(r.ctx, string(l.SQL)+"BEGIN")
		return err
	case l.Begins:
		if r.which.Until > 0 && l.Transaction > r.which.Until {
			return engine.ErrNoMore
		}
		return nil
	case l.Ends:
		if r.commits++; r.commits%replayCommits == 0 {
			return r.add(l.Transaction, []byte("COMMIT; BEGIN"), -1)
		}
		return nil
	case l.Rows < 0 && string(l.SQL) == "BEGIN":
		return nil
	case l.Rows >= 0 && r.which.Only != nil && !r.which.Only[changed(l.SQL)]:
		return nil
	}
	return r.add(l.Transaction, l.SQL, l.Rows)
}

// changed is the ID of the table that a statement changes.
func changed(sql []byte) string {
	for _, head := range []string{"INSERT INTO ", "UPDATE ", "DELETE FROM "} {
		if rest, is := bytes.CutPrefix(sql, []byte(head)); is {
			return string(quoted.Find(rest))
		}
	}
	return ""
}

// add adds a statement to those that go to the server next.
func (r *replaying) add(transaction int64, sql []byte, rows int64) error {
	if len(r.text)+len(sql) > replayBytes || len(r.expected) >= replayStatements {
		if err := r.send(); err != nil {
			return err
		}
	}
	if len(r.text) > 0 {
		r.text = append(r.text, ';')
	}
	from := len(r.text)
	r.text = append(r.text, sql...)
	r.expected = append(r.expected, expected{transaction, rows, from, len(r.text)})
	if string(sql) == "COMMIT; BEGIN" { // two statements
		r.expected = append(r.expected, expected{transaction, -1, from, len(r.text)})
	}
	return nil
}

// send sends what is gathered, and looks how many rows each statement touched.
func (r *replaying) send() error {
	if len(r.text) == 0 {
		return nil
	}
	touched, err := r.c.execEach(r.ctx, string(r.text))
	if err != nil {
		return err
	}
	var seen int64
	for i, e := range r.expected {
		got := int64(-1)
		if i < len(touched) {
			got = touched[i]
		}
		if e.rows >= 0 && got != e.rows {
			return engine.RowsDiffer(e.transaction, got, e.rows, r.text[e.from:e.to])
		}
		if e.rows > 0 {
			r.touched.Count(r.text[e.from:e.to], e.rows)
			seen += e.rows
		}
	}
	r.seen(seen)
	r.text, r.expected = r.text[:0], r.expected[:0]
	return nil
}

// execEach runs statements, divided by semicolons, and gives the rows that each of them touched.
func (c *conn) execEach(ctx context.Context, sql string) ([]int64, error) {
	res, err := c.c.(driver.ExecerContext).ExecContext(ctx, sql, nil)
	if err != nil {
		return nil, plain(ctx, err)
	}
	return res.(sqldriver.Result).AllRowsAffected(), nil
}
