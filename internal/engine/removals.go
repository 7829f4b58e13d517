package engine

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"strconv"

	"grainkeep/internal/fault"
)

// Removals cuts the text of a file that removes rows into its statements, each with what stands before it and
// without its end, and gives them to run, which tells how many rows went. What follows the last one goes to after, if
// that is not nil. It fails where other than as many rows went as the statement says: then they are not those that
// the dump was compared with.
func Removals(text io.Reader, run func(sql []byte) (int64, error), after func(sql []byte) error) (rows int64,
	err error) {
	in := bufio.NewReaderSize(text, 64<<10)
	var sql []byte
	var q quotes
	for {
		begin := len(sql)
		if sql, err = ReadLine(in, sql, maxStatement); err == io.EOF {
			if bytes.HasPrefix(sql, []byte("DELETE FROM ")) || bytes.Contains(sql, []byte("\nDELETE FROM ")) {
				return rows, fmt.Errorf("the last statement has no end")
			}
			if after != nil {
				return rows, after(sql)
			}
			return rows, nil
		}
		if err != nil {
			return rows, err
		}
		q.pass(sql[begin:])
		end := rowsEnd.FindSubmatchIndex(sql[begin:])
		if q.open != 0 || end == nil {
			continue
		}
		want, err := strconv.ParseInt(string(sql[begin+end[2]:begin+end[3]]), 10, 64)
		if err != nil {
			return rows, err
		}
		n, err := run(sql[:begin+end[0]])
		if err != nil {
			return rows, err
		}
		if n != want {
			return rows, fault.New("rows-differ", nil, "%d rows were to go, and there are %d: %.200q", want, n,
				bytes.TrimSpace(sql[begin:]))
		}
		rows += n
		sql = sql[:0]
	}
}

// quotes follows the quotes of a text, which double where they are meant.
type quotes struct{ open byte }

func (q *quotes) pass(line []byte) {
	for _, c := range line {
		switch {
		case q.open == 0 && (c == '"' || c == '`' || c == '\''):
			q.open = c
		case q.open == c:
			q.open = 0
		}
	}
}
