package engine

import (
	"bytes"
	"errors"
	"io"
)

// Batches is how an engine replays changes: many statements at one time, since each way to the server costs more than a
// statement.
type Batches struct {
	Head func(sql []byte) error            // runs what stands before the first transaction
	Send func(sql []byte) ([]int64, error) // runs statements, divided by semicolons, and gives the rows that each touched
	// Merge makes fewer statements of some that come to the same, unless rows are in each other's way meanwhile; nil: none
	// are merged.
	Merge func([]Statement) []Statement
}

// Statement is one that is replayed.
type Statement struct {
	SQL         []byte
	Rows        int64 // that it touches; -1: it is a setting
	Transaction int64
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

// bound begins or ends a transaction, unless everything is one. What goes to the server at one time is within one.
func (r *replaying) bound(transaction int64, sql string) error {
	if r.which.Joined {
		return nil
	}
	if r.Merge == nil {
		return r.add(transaction, []byte(sql), -1)
	}
	err := r.send()
	if err == nil {
		_, err = r.Send([]byte(sql))
	}
	return err
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
	list := make([]Statement, len(r.expected))
	for i, e := range r.expected {
		list[i] = Statement{r.text[e.from:e.to], e.rows, e.transaction}
	}
	done, err := r.sendMerged(list)
	if err == nil && !done {
		var touched []int64
		if touched, err = r.Send(r.text); err == nil {
			err = r.count(list, touched)
		}
	}
	r.text, r.expected = r.text[:0], r.expected[:0]
	return err
}

// sendMerged sends fewer statements that come to the same, where there are such. Where one of them does not do, since rows
// are in each other's way, nothing is changed.
func (r *replaying) sendMerged(list []Statement) (done bool, err error) {
	if r.Merge == nil {
		return false, nil
	}
	fewer := r.Merge(list)
	if len(fewer) == len(list) {
		return false, nil
	}
	const back = "SAVEPOINT grainkeep_batch"
	text := []byte(back)
	for _, x := range fewer {
		text = append(append(text, ';'), x.SQL...)
	}
	touched, err := r.Send(text)
	if err == nil && len(touched) == len(fewer)+1 && r.count(fewer, touched[1:]) == nil {
		return true, nil
	}
	if _, e := r.Send([]byte("ROLLBACK TO " + back)); e != nil { // the connection is lost, or the transaction
		return false, errors.Join(err, e)
	}
	return false, nil
}

// count looks how many rows each of some statements touched, and counts them.
func (r *replaying) count(list []Statement, touched []int64) error {
	for i, x := range list {
		got := int64(-1)
		if i < len(touched) {
			got = touched[i]
		}
		if x.Rows >= 0 && got != x.Rows {
			return RowsDiffer(x.Transaction, got, x.Rows, x.SQL)
		}
	}
	var seen int64
	for _, x := range list {
		if x.Rows > 0 {
			r.touched.Count(x.SQL, x.Rows)
			seen += x.Rows
		}
	}
	r.seen(seen)
	return nil
}
