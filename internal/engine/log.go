package engine

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"time"

	"grainkeep/internal/fault"
	"grainkeep/internal/pattern"
)

// Follower is a Snapshot of a server that writes a change log, which can be read up to the snapshot.
type Follower interface {
	Snapshot
	// Left says what this snapshot had to make on the server so that its log can be followed; empty: nothing.
	Left() string
	// LogHead is what stands before changes in a file, after the catalog's header.
	LogHead() string
	// Follow reads what changed in some tables after a position and up to the snapshot's own. An error of the code
	// LogUnusable says why the log cannot be read from there on: then nothing is known of any table.
	Follow(ctx context.Context, from Position, tables []*Table, to ChangeSink) error
}

// Holder is a source that keeps something on the server for those who follow its log.
type Holder interface {
	// Held lists what the server holds back for such readers of this program, of any job.
	Held(ctx context.Context) ([]Held, error)
	// Leftovers lists what is left of readers for which nothing is held back any more.
	Leftovers(ctx context.Context) ([]Held, error)
	// LetGo removes one of either, by its name.
	LetGo(ctx context.Context, name string) error
}

// Held is what a server holds back for a reader of its log.
type Held struct {
	Name     string
	Reader   string // as Location has it
	Database string // empty: it is gone
	Bytes    int64  // of the log; -1: not known
	State    string // in the server's words
	Lost     bool   // it cannot be read any more
	Active   bool   // it is being read just now
}

// LogUnusable is the code of errors that say why a change log cannot be read from a position on.
const LogUnusable = "log-unusable"

// LogDoubted is the code of errors that say the same, where the log is not the one that it seemed to be: whoever
// believed it would have missed changes.
const LogDoubted = "log-doubted"

// Doubted says that a change log is not the one that it seemed to be.
func Doubted(format string, args ...any) error { return fault.New(LogDoubted, nil, format, args...) }

// Unusable says that a change log cannot be read from a position on.
func Unusable(format string, args ...any) error { return fault.New(LogUnusable, nil, format, args...) }

// ChangeSink takes what a change log says, in its order.
type ChangeSink interface {
	// Change takes lines that change rows of a table, as a part of the transaction under way. The text is valid until the
	// next call.
	Change(t *Table, lines []byte, n Touched) error
	// Row is told the texts of rows that the next Change removes or writes, as a Reader gives them.
	Row(text []byte, removed bool)
	// Image tells what a row is after a change: by its key, in the form in which a KeyReader takes it; its text as a Reader
	// gives it, or nil where the log does not tell all of it; and whether it is there at all. The bytes are valid until
	// the next call.
	Image(t *Table, key, row []byte, there bool)
	// Forget takes back what Row was told since the last Change.
	Forget()
	// Commit ends the transaction.
	Commit(Commit) error
	// Audit says why the log may not tell all: every table is to be looked at.
	Audit(why string)
	// Lose says that a table cannot be followed, and why; whatever was said of it does not count.
	Lose(t *Table, why string)
}

// KeyReader is a Reader that finds rows by their keys, each in the form in which the engine's log told it.
type KeyReader interface {
	Reader
	// ReadKeys reads the rows that have some keys, in any order. Those that are too long to be read whole may be left out.
	ReadKeys(ctx context.Context, t *Table, keys []string, to Rows) error
	// CountKeys counts them.
	CountKeys(ctx context.Context, t *Table, keys []string) (int64, error)
	// CountSince counts all rows, and those of them that were written after a position; -1: the server cannot tell.
	CountSince(ctx context.Context, t *Table, from Position) (all, since int64, err error)
}

// Touched are numbers of rows that changes touch.
type Touched struct {
	Inserted, Updated, Removed int64
	Untold                     bool // Row was not told of all of them
}

// All is their sum.
func (t Touched) All() int64 { return t.Inserted + t.Updated + t.Removed }

// Commit is where and when a transaction ended.
type Commit struct {
	Time     time.Time
	Position string // in the log, in the server's words
	ID       string // of the transaction, in the server's words; empty: it has none
}

// Lines of files of changes. Between them stand statements, each with how many rows it touches, or settings.
const (
	transactionHead = "-- transaction "
	transactionTail = "COMMIT;"
)

// BeginChanges are the lines that begin a transaction of a number.
func BeginChanges(dst []byte, number int64) []byte {
	dst = append(dst, transactionHead...)
	dst = strconv.AppendInt(dst, number, 10)
	return append(dst, "\nBEGIN;\n"...)
}

// EndChanges is the line that ends a transaction.
func EndChanges(dst []byte) []byte { return append(dst, transactionTail+"\n"...) }

// AppendRows ends a statement with how many rows it touches.
func AppendRows(dst []byte, rows int64) []byte {
	dst = append(dst, "; -- rows: "...)
	dst = strconv.AppendInt(dst, rows, 10)
	return append(dst, '\n')
}

// rowsEnd is that end.
var rowsEnd = pattern.Of(`; -- rows: ([0-9]{1,18})\n$`)

// Replayer is a Session that can replay changes.
type Replayer interface {
	Session
	// Replay runs a file of changes, and tells which rows it touched. Each statement must touch as many rows as it
	// says. seen is told of rows while they pass.
	Replay(ctx context.Context, text io.Reader, w Which, seen func(rows int64)) (Touched, error)
}

// Which says which of some changes are meant.
type Which struct {
	Until int64    // the last transaction; 0: all of them
	Only  []string // the IDs of the tables; nil: all of them
	// Joined says that everything is part of one transaction, which is under way.
	Joined bool
}

// ChangeLine is a line of a file of changes.
type ChangeLine struct {
	Transaction int64  // that it is of; 0: it stands before all of them
	Begins      bool   // it is the head of that transaction
	Ends        bool   // it commits it
	SQL         []byte // of a statement or a setting, without its end; valid until the next line
	Rows        int64  // that a statement touches; -1: it is a setting
}

// ErrNoMore stops the reading of changes, and is no error.
var ErrNoMore = errors.New("no more changes are wanted")

// ReadChanges cuts the text of a file of changes into lines. Each statement is one line: whatever is not to stand in
// one is escaped in its texts. What stands before the first transaction, settings among comments, comes as one.
func ReadChanges(text io.Reader, each func(ChangeLine) error) error {
	in := bufio.NewReaderSize(text, 256<<10)
	var line, head []byte
	var at ChangeLine
	var err error
	for {
		if line, err = ReadLine(in, line[:0], maxStatement); err == io.EOF {
			switch {
			case len(line) > 0:
				return errors.New("the last line has no end")
			case at.Transaction > 0 && !at.Ends:
				return fmt.Errorf("the transaction %d has no end", at.Transaction)
			}
			return nil
		}
		if err != nil {
			return err
		}
		if at, err = at.next(line); err != nil {
			return err
		}
		switch {
		case at.Transaction == 0:
			if head = append(head, line...); len(head) > maxHead {
				return errors.New("the settings at its head have no end")
			}
			continue
		case at.Begins && head != nil:
			err = each(ChangeLine{SQL: head, Rows: -1})
			head = nil
		}
		if err == nil {
			err = each(at)
		}
		if errors.Is(err, ErrNoMore) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// maxHead bounds what stands before the first transaction, in bytes.
const maxHead = 1 << 20

// next reads the line after another one.
func (l ChangeLine) next(line []byte) (ChangeLine, error) {
	n := ChangeLine{Transaction: l.Transaction, Rows: -1, Ends: l.Ends}
	if number, is := bytes.CutPrefix(line, []byte(transactionHead)); is {
		was := l.Transaction
		if was > 0 && !l.Ends {
			return n, fmt.Errorf("the transaction %d has no end", was)
		}
		var err error
		n.Transaction, err = strconv.ParseInt(string(bytes.TrimSuffix(number, []byte("\n"))), 10, 64)
		if err != nil || n.Transaction <= was {
			return n, fmt.Errorf("a transaction has no number of its own: %.40q", line)
		}
		n.Begins, n.Ends = true, false
		return n, nil
	}
	if l.Transaction == 0 {
		return n, nil
	}
	if l.Ends { // what ends the file
		n.SQL = line
		return n, nil
	}
	if string(line) == transactionTail+"\n" {
		n.Ends = true
		return n, nil
	}
	if m := rowsEnd().FindSubmatchIndex(line[max(0, len(line)-48):]); m != nil {
		from := max(0, len(line)-48)
		rows, err := strconv.ParseInt(string(line[from+m[2]:from+m[3]]), 10, 64)
		n.SQL, n.Rows = line[:from+m[0]], rows
		return n, err
	}
	n.SQL = bytes.TrimSuffix(line, []byte(";\n"))
	return n, nil
}

// Count adds the rows that a statement touches.
func (t *Touched) Count(sql []byte, rows int64) {
	switch {
	case bytes.HasPrefix(sql, []byte("INSERT ")):
		t.Inserted += rows
	case bytes.HasPrefix(sql, []byte("DELETE ")):
		t.Removed += rows
	default:
		t.Updated += rows
	}
}

// TableOf is which of some tables a statement of changes changes, by their IDs; empty: none of those.
func TableOf(sql []byte, ids []string) string {
	for _, head := range []string{"INSERT INTO ", "UPDATE ONLY ", "UPDATE ", "DELETE FROM ONLY ", "DELETE FROM "} {
		rest, is := bytes.CutPrefix(sql, []byte(head))
		if !is {
			continue
		}
		for _, id := range ids {
			if after, is := bytes.CutPrefix(rest, []byte(id)); is && bytes.HasPrefix(after, []byte(" ")) {
				return id
			}
		}
	}
	return ""
}

// RowsDiffer is the error about a statement that touched other than the rows that it names.
func RowsDiffer(transaction, got, want int64, sql []byte) error {
	return fault.New("rows-differ", nil, "transaction %d: %d rows were to change, and there are %d: %.200q", transaction,
		want, got, bytes.TrimSpace(sql))
}
