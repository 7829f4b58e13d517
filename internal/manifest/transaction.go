package manifest

import (
	"bufio"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
)

// Transaction is one line of the list of what came from a server's change log.
type Transaction struct {
	Number   int64     // in this dump, from 1 on
	Time     time.Time // of its commit, by the server's clock
	Position string    // in the server's log, where it ends
	ID       string    // of the server; empty: it has none
	Rows     int64     // that it touched in the tables that were followed
}

// maxTransaction bounds a line of the list, in bytes.
const maxTransaction = 4 << 10

// Line is the line, with its line feed: number, time, position, id and rows, with tabs between.
func (t Transaction) Line() []byte {
	id := t.ID
	if id == "" {
		id = "-"
	}
	return fmt.Appendf(nil, "%d\t%s\t%s\t%s\t%d\n", t.Number, t.Time.UTC().Format(time.RFC3339Nano), t.Position, id,
		t.Rows)
}

// ReadTransactions reads a list of transactions, whose numbers rise. The error says what is wrong with it.
func ReadTransactions(text io.Reader, each func(Transaction) error) error {
	lines := bufio.NewScanner(text)
	lines.Buffer(nil, maxTransaction)
	last := int64(0)
	for lines.Scan() {
		t, err := transactionOf(lines.Text())
		if err != nil || t.Number <= last {
			return fmt.Errorf("no transaction: %.80q", lines.Text())
		}
		last = t.Number
		if err := each(t); err != nil {
			return err
		}
	}
	return lines.Err()
}

func transactionOf(line string) (t Transaction, err error) {
	f := strings.Split(line, "\t")
	if len(f) != 5 {
		return t, fmt.Errorf("it has %d fields", len(f))
	}
	if t.Number, err = strconv.ParseInt(f[0], 10, 64); err == nil {
		t.Rows, err = strconv.ParseInt(f[4], 10, 64)
	}
	if err == nil {
		t.Time, err = time.Parse(time.RFC3339Nano, f[1])
	}
	if t.Position, t.ID = f[2], f[3]; t.ID == "-" {
		t.ID = ""
	}
	if err == nil && t.Rows < 0 {
		err = fmt.Errorf("it has %d rows", t.Rows)
	}
	return t, err
}
