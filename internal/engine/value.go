package engine

import (
	"strings"

	"grainkeep/internal/pattern"
)

// Value is a value of a row, as the text of a dump has it.
type Value struct {
	Kind ValueKind
	Data []byte // Number: a decimal; Text: the text; Bytes: the bytes; Expression: as it is written
}

// ValueKind is what a value is in the text of a dump.
type ValueKind int

// The kinds of values. PostgreSQL's are texts all, which the column's class makes numbers, times or bytes of.
const (
	Null ValueKind = iota
	Number
	Text
	Bytes
	Expression // what only the server can reckon
)

// Column is a column as the definition of its table has it.
type Column struct {
	Name    string // literal
	Type    string // as the definition writes it
	Class   Class
	Limit   int    // characters, or bytes, at most; of an Integer its bits, of a Decimal the digits before the point; 0: none
	Charset string // MariaDB, MySQL: of its texts
	NotNull bool
	Key     int // its place in the primary key, from 1 on; 0: it is none of it
}

// Class is a family of types.
type Class int

// The classes of types.
const (
	Other Class = iota // known to the server alone
	Integer
	Decimal
	Real
	Boolean
	Texts
	Binary
	Date     // a day, or an instant, that begins with YYYY-MM-DD
	UUID     // 32 hexadecimal digits
	Document // JSON
)

// RowText says how an engine writes rows and their changes, so that a dump can be read without its server.
type RowText struct {
	Copied    bool // files of rows are the text form of COPY; else they are value lists of INSERTs
	Backslash bool // a quoted text has escapes; else only one with an E before it
	Quote     byte // of names
	// Columns takes the SQL that makes a table, and its primary key, apart. A column that it does not find is of the class
	// Other.
	Columns func(create string) []Column
}

// SplitList splits what stands between parentheses at its commas, and gives the place of the closing one too. Texts and
// names may hold anything; backslash says that texts have escapes.
func SplitList(sql string, backslash bool) (list []string, end int) {
	depth, start := 0, 0
	for i := 0; i < len(sql); i++ {
		switch c := sql[i]; c {
		case '\'', '`', '"':
			for i++; i < len(sql) && sql[i] != c; i++ {
				if sql[i] == '\\' && c != '`' && backslash {
					i++
				}
			}
		case '(', '[':
			depth++
		case ')', ']':
			if depth == 0 {
				return append(list, strings.TrimSpace(sql[start:i])), i
			}
			depth--
		case ',':
			if depth == 0 {
				list = append(list, strings.TrimSpace(sql[start:i]))
				start = i + 1
			}
		}
	}
	return list, len(sql)
}

var primaryKey = pattern.Of(`PRIMARY KEY(?: USING \w+)? \(`)

// SetKey finds the primary key in the SQL that makes a table.
func SetKey(columns []Column, sql string, quote byte, backslash bool) {
	at := primaryKey().FindAllStringIndex(sql, -1)
	if len(at) == 0 {
		return
	}
	list, _ := SplitList(sql[at[len(at)-1][1]:], backslash)
	q := string(quote)
	for i, name := range list {
		if rest, is := strings.CutPrefix(name, q); is {
			name = strings.ReplaceAll(strings.TrimSuffix(rest, q), q+q, q)
		}
		for k := range columns {
			if columns[k].Name == name {
				columns[k].Key = i + 1
			}
		}
	}
}

// Texter is a Driver whose dumps can be read without a server.
type Texter interface {
	RowText() RowText
}

// RowTextOf says how an engine writes rows.
func RowTextOf(name string) (RowText, error) {
	d, err := Find(name)
	if err != nil {
		return RowText{}, err
	}
	return d.(Texter).RowText(), nil
}
