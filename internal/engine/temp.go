package engine

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"strconv"
)

// TempMaker is a Driver that makes databases for the time of some questions.
type TempMaker interface {
	// Temp makes one in a file that is not there yet, of at most so many bytes.
	Temp(path string, room int64) (TempDB, error)
}

// RoomUsed is the code of the error that says that a temporary database would grow beyond its room.
const RoomUsed = "room-used"

// QueryWrong is the code of errors about a query that somebody wrote.
const QueryWrong = "query-wrong"

// TempDB is a database for the time of some questions. It is for one goroutine.
type TempDB interface {
	// Exec runs statements of ours, and tells how many rows the last one touched.
	Exec(ctx context.Context, sql string, with ...Cell) (rows int64, err error)
	// Define runs a definition that somebody else wrote, of a table or a view, and nothing else.
	Define(sql string) error
	// Reads says which columns of which tables a query reads, by table; of one that is just counted, none. A query that
	// does other things than read is an error of the code QueryWrong.
	Reads(sql string) (map[string][]string, error)
	// Into prepares to insert rows into some columns of a table.
	Into(table string, columns []string) (TempRows, error)
	// Query gives the rows of a query, whose cells are valid until the next one, after the names of its columns.
	Query(ctx context.Context, sql string, names func([]string) error, each func([]Cell) error) error
	Close() error
}

// TempRows inserts rows.
type TempRows interface {
	Insert(row []Cell) error
	Close() error
}

// Cell is a value in a temporary database.
type Cell struct {
	Kind CellKind
	Int  int64
	Real float64
	Data []byte // of a text in UTF-8, or of bytes
}

// CellKind is what a cell holds.
type CellKind int

// The kinds of cells.
const (
	NullCell CellKind = iota
	IntCell
	RealCell
	TextCell
	BytesCell
)

// String is the cell as people read it; empty, if it is NULL.
func (c Cell) String() string {
	switch c.Kind {
	case IntCell:
		return strconv.FormatInt(c.Int, 10)
	case RealCell:
		return strconv.FormatFloat(c.Real, 'g', -1, 64)
	case TextCell:
		return string(c.Data)
	case BytesCell:
		return fmt.Sprintf("x'%x'", c.Data)
	}
	return ""
}

// Compare puts cells in the order in which a TempDB sorts them: NULL, numbers, texts, bytes.
func (c Cell) Compare(d Cell) int {
	rank := func(k CellKind) int {
		return [...]int{NullCell: 0, IntCell: 1, RealCell: 1, TextCell: 2, BytesCell: 3}[k]
	}
	if n := cmp.Compare(rank(c.Kind), rank(d.Kind)); n != 0 {
		return n
	}
	switch {
	case c.Kind == NullCell:
		return 0
	case c.Kind == IntCell && d.Kind == IntCell:
		return cmp.Compare(c.Int, d.Int)
	case rank(c.Kind) == 1:
		return cmp.Compare(c.number(), d.number())
	}
	return bytes.Compare(c.Data, d.Data)
}

func (c Cell) number() float64 {
	if c.Kind == IntCell {
		return float64(c.Int)
	}
	return c.Real
}
