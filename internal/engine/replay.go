package engine

import (
	"bytes"
	"io"
)

// Batches is how an engine replays changes: many statements at one time, since each way to the server costs more than a
// statement.
type Batches struct {
	Head func(sql []byte) error            // runs what stands before the first transaction
	Send func(sql []byte) ([]int64, error) // runs statements, divided by semicolons, and gives the rows that each touched
}

// Bounds of what goes to the server at one time, and of what is committed as one: the transactions of a file are the
// source's business, and come back whole or not at all anyway.
const (
	replayBytes      = 128 << 10
	replayStatements = 400
	replayCommits    = 2000 // transactions of the source
)

// replaying is a file of changes on its way to a server.
type replaying struct {
	Batches
	which Which
	seen  func(int64)

	text     []byte
	expected []expected // of the statements in it
	commits  int
	touched  Touched
}

// expected is what a statement says that it touches; -1: it is a setting.
type expected struct {
	transaction, rows int64
	from, to          int // in the text
	head              int // of an INSERT, before its rows; 0: no rows can be added to it
}

// ReplayBatches replays a file of changes, each statement strictly.
func ReplayBatches(text io.Reader, w Which, seen func(int64), b Batches) (Touched, error) {
	r := &replaying{Batches: b, which: w, seen: seen}
	err := r.bound(0, "BEGIN")
	if err == nil {
		err = ReadChanges(text, r.line)
	}
	if err == nil {
		err = r.bound(0, "COMMIT")
	}
	if err == nil {
		err = r.send()
	}
	return r.touched, err
}

// line takes a line of the file.
func (r *replaying) line(l ChangeLine) error {
	switch {
	case l.Transaction == 0:
		r.text, r.expected = r.text[:0], r.expected[:0]
		if err := r.Head(l.SQL); err != nil {
			return err
		}
		return r.bound(0, "BEGIN")
	case l.Begins:
		if r.which.Until > 0 && l.Transaction > r.which.Until {
			return ErrNoMore
		}
		return nil
	case l.Ends:
		if r.commits++; l.SQL != nil || r.commits%replayCommits > 0 { // also what ends the file
			return nil
		}
		if err := r.bound(l.Transaction, "COMMIT"); err != nil {
			return err
		}
		return r.bound(l.Transaction, "BEGIN")
	case l.Rows < 0 && string(l.SQL) == "BEGIN":
		return nil
	case l.Rows >= 0 && r.which.Only != nil && TableOf(l.SQL, r.which.Only) == "":
		return nil
	}
	return r.add(l.Transaction, l.SQL, l.Rows)
}

// bound begins or ends a transaction, unless everything is one.
func (r *replaying) bound(transaction int64, sql string) error {
	if r.which.Joined {
		return nil
	}
	return r.add(transaction, []byte(sql), -1)
}

// add adds a statement to those that go to the server next. Rows that are inserted one after another into the same
// columns go as one statement, whatever transactions they are of: that is what costs a server most.
func (r *replaying) add(transaction int64, sql []byte, rows int64) error {
	n := 0
	if rows > 0 {
		n = insertHead(sql)
	}
	if len(r.expected) > 0 && n > 0 && len(r.text)+len(sql) <= replayBytes {
		last := &r.expected[len(r.expected)-1]
		if last.head == n && bytes.Equal(r.text[last.from:last.from+n], sql[:n]) {
			r.text = append(append(r.text, ", "...), sql[n:]...)
			last.rows, last.to = last.rows+rows, len(r.text)
			return nil
		}
	}
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
	r.expected = append(r.expected, expected{transaction, rows, from, len(r.text), n})
	return nil
}

// insertHead is how long the part of an INSERT is that stands before its rows, in bytes; 0: it is none, or none that can
// be divided there.
func insertHead(sql []byte) int {
	const values = " VALUES "
	if !bytes.HasPrefix(sql, []byte("INSERT INTO ")) {
		return 0
	}
	quote := byte(0)
	for i, c := range sql {
		switch {
		case quote != 0:
			if c == quote { // a doubled one ends the name and begins it again
				quote = 0
			}
		case c == '`' || c == '"':
			quote = c
		case c == '\'':
			return 0
		case c == ' ' && bytes.HasPrefix(sql[i:], []byte(values+"(")):
			return i + len(values)
		}
	}
	return 0
}

// send sends what is gathered, and looks how many rows each statement touched.
func (r *replaying) send() error {
	if len(r.text) == 0 {
		return nil
	}
	touched, err := r.Send(r.text)
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
			return RowsDiffer(e.transaction, got, e.rows, r.text[e.from:e.to])
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
