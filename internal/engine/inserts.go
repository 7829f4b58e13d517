package engine

import (
	"bufio"
	"bytes"
	"errors"
	"io"
)

// Inserts cuts the text of a data file into INSERT statements, each with what stands
// before it, and gives them to run, which tells the rows that the server took. Every
// row is one line, so a statement ends with the line that ends in ");".
func Inserts(text io.Reader, seen func(rows int64), run func(sql []byte) (int64, error)) (rows int64, err error) {
	in := bufio.NewReaderSize(text, 256<<10)
	var sql []byte
	var head headScan
	for {
		begin := len(sql)
		if sql, err = ReadLine(in, sql, maxStatement); err == io.EOF {
			if bytes.HasPrefix(sql, []byte("INSERT INTO ")) || bytes.Contains(sql, []byte("\nINSERT INTO ")) {
				return rows, errors.New("the last statement has no end")
			}
			return rows, nil
		}
		if err != nil {
			return rows, err
		}
		if !head.past(sql[begin:]) || !bytes.HasSuffix(sql[begin:], []byte(");\n")) {
			continue
		}
		head = headScan{}
		n, err := run(sql)
		if err != nil {
			return rows, err
		}
		rows += n
		seen(n)
		sql = sql[:0]
	}
}

// headScan finds the end of a statement's head. The names in it may hold line feeds, and what looks
// like the end of a statement.
type headScan struct {
	begun, ended bool
	quotes       quotes
}

// past takes the next line, and says whether it is one of rows.
func (h *headScan) past(line []byte) bool {
	if h.ended {
		return true
	}
	if h.begun = h.begun || bytes.HasPrefix(line, []byte("INSERT INTO ")); !h.begun {
		return false
	}
	h.quotes.pass(line)
	h.ended = h.quotes.open == 0 && bytes.HasSuffix(line, []byte(" VALUES\n"))
	return false
}

// maxStatement is more than any server takes as one statement.
const maxStatement = 1<<30 + 1<<20 // bytes

// ReadLine appends one line, with its line feed, to b, which gets no longer than limit
// bytes and one buffer.
func ReadLine(in *bufio.Reader, b []byte, limit int) ([]byte, error) {
	for {
		part, err := in.ReadSlice('\n')
		b = append(b, part...)
		if err == bufio.ErrBufferFull && len(b) <= limit {
			continue
		}
		if len(b) > limit {
			return b, errors.New("a line is longer than any statement can be")
		}
		return b, err
	}
}
