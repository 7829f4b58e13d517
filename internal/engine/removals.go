package engine

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"strconv"

	"grainkeep/internal/fault"
)

// Removals runs the statements of a file that removes rows, and gives how many went. What follows the last one goes to
// after, if that is not nil. It fails where other than as many rows went as the statement says: then they are not those
// that the dump was compared with.
func Removals(text io.Reader, run func(sql []byte) (int64, error), after func(sql []byte) error) (rows int64,
	err error) {
	err = EachRemoval(text, func(sql []byte, want int64) error {
		n, err := run(sql)
		if err != nil {
			return err
		}
		if n != want {
			return fault.New("rows-differ", nil, "%d rows were to go, and there are %d: %.200q", want, n, bytes.TrimSpace(sql))
		}
		rows += n
		return nil
	}, after)
	return rows, err
}

// EachRemoval cuts the text of a file that removes rows into its statements, each with what stands before it and without
// its end, and tells how many rows it says that it removes. What follows the last one goes to after, if that is not nil.
func EachRemoval(text io.Reader, each func(sql []byte, rows int64) error, after func(sql []byte) error) (err error) {
	in := bufio.NewReaderSize(text, 64<<10)
	var sql []byte
	var q quotes
	for {
		begin := len(sql)
		if sql, err = ReadLine(in, sql, maxStatement); err == io.EOF {
			if bytes.HasPrefix(sql, []byte("DELETE FROM ")) || bytes.Contains(sql, []byte("\nDELETE FROM ")) {
				return fmt.Errorf("the last statement has no end")
			}
			if after != nil {
				return after(sql)
			}
			return nil
		}
		if err != nil {
			return err
		}
		q.pass(sql[begin:])
		end := rowsEnd().FindSubmatchIndex(sql[begin:])
		if q.open != 0 || end == nil {
			continue
		}
		want, err := strconv.ParseInt(string(sql[begin+end[2]:begin+end[3]]), 10, 64)
		if err != nil {
			return err
		}
		if err := each(sql[:begin+end[0]], want); err != nil {
			return err
		}
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
