package mysql

import (
	"bytes"
	"slices"
	"strings"

	"grainkeep/internal/engine"
)

// Many changes of single rows, one after another, are made by few statements: what costs a server is the statement, not
// the row. Only those are merged that name their rows by one whole number and whose values are plain: then it is the same
// whether they stand in a statement each or in one for all.

// mostMerged bounds the rows of such a statement: each row goes through the list of all values.
const mostMerged = 100

// single is a statement that changes one row.
type single struct {
	removes bool
	table   string
	key, is string // the column that names the row, and its value
	sets    []setting
}

type setting struct {
	column, value string
	kind          byte // of the value: that of a text, of a number, of NULL, or of a column
}

// Kinds of values.
const (
	textValue   = 't'
	numberValue = 'n'
	nullValue   = '0'
	columnValue = 'c'
)

// singleOf takes a statement apart; not ok: it is none that can be merged.
func singleOf(sql []byte) (s single, ok bool) {
	if rest, is := bytes.CutPrefix(sql, []byte("DELETE FROM ")); is {
		s.removes, sql = true, rest
	} else if sql, is = bytes.CutPrefix(sql, []byte("UPDATE ")); !is {
		return s, false
	}
	n := nameLength(sql)
	s.table, sql = string(sql[:n]), sql[n:]
	if !s.removes {
		if sql, ok = bytes.CutPrefix(sql, []byte(" SET ")); !ok {
			return s, false
		}
		for more := true; more; {
			var set setting
			if set, sql, ok = settingOf(sql); !ok {
				return s, false
			}
			s.sets = append(s.sets, set)
			sql, more = bytes.CutPrefix(sql, []byte(", "))
		}
	}
	if sql, ok = bytes.CutPrefix(sql, []byte(" WHERE ")); !ok || n == 0 {
		return s, false
	}
	where, rest, ok := settingOf(sql)
	s.key, s.is = where.column, where.value
	for _, x := range s.sets {
		ok = ok && x.column != s.key
	}
	return s, ok && len(rest) == 0 && where.kind == numberValue && !strings.Contains(s.is, ".")
}

// settingOf takes "column = value" off a text.
func settingOf(sql []byte) (s setting, rest []byte, ok bool) {
	n := nameLength(sql)
	if n == 0 || !bytes.HasPrefix(sql[n:], []byte(" = ")) {
		return s, sql, false
	}
	s.column, sql = string(sql[:n]), sql[n+len(" = "):]
	switch {
	case bytes.HasPrefix(sql, []byte("NULL")):
		s.kind, n = nullValue, len("NULL")
	case bytes.HasPrefix(sql, []byte("'")):
		s.kind, n = textValue, quotedLength(sql)
	case bytes.HasPrefix(sql, []byte("`")):
		s.kind, n = columnValue, nameLength(sql)
	default:
		s.kind, n = numberValue, 0
		for n < len(sql) && (sql[n] >= '0' && sql[n] <= '9' || sql[n] == '.' || sql[n] == '-' && n == 0) {
			n++
		}
	}
	s.value = string(sql[:n])
	return s, sql[n:], n > 0 && s.value != "-"
}

// nameLength is the length of a quoted name at the beginning of a text.
func nameLength(sql []byte) int {
	if len(sql) == 0 || sql[0] != '`' {
		return 0
	}
	for i := 1; i < len(sql); i++ {
		if sql[i] != '`' {
			continue
		}
		if i+1 == len(sql) || sql[i+1] != '`' {
			return i + 1
		}
		i++
	}
	return 0
}

// run is statements that can be one.
type run struct {
	of    []single
	kinds []byte          // of the values that each column gets; NULL goes with any
	named map[string]bool // the rows
}

// takes adds a statement to the run, if it goes with all that are in it. A row that comes twice is changed twice.
func (r *run) takes(s single) bool {
	if len(r.of) == 0 {
		r.kinds, r.named = make([]byte, len(s.sets)), map[string]bool{}
	} else if o := r.of[0]; len(r.of) == mostMerged || s.removes != o.removes || s.table != o.table || s.key != o.key ||
		len(s.sets) != len(o.sets) || r.named[s.is] {
		return false
	}
	kinds := slices.Clone(r.kinds)
	for i, x := range s.sets {
		if len(r.of) > 0 {
			first := r.of[0].sets[i]
			if x.column != first.column || x.value != first.value && (x.kind == columnValue || first.kind == columnValue) {
				return false
			}
		}
		switch {
		case x.kind == nullValue, x.kind == kinds[i]:
		case kinds[i] != 0:
			return false
		default:
			kinds[i] = x.kind
		}
	}
	r.of, r.kinds, r.named[s.is] = append(r.of, s), kinds, true
	return true
}

// merge makes one statement of some that go together.
func merge(dst []byte, of []single) []byte {
	first := of[0]
	if first.removes {
		dst = append(append(dst, "DELETE FROM "...), first.table...)
	} else {
		dst = append(append(append(dst, "UPDATE "...), first.table...), " SET "...)
	}
	for i, set := range first.sets {
		if i > 0 {
			dst = append(dst, ", "...)
		}
		dst = append(append(dst, set.column...), " = "...)
		same := true
		for _, s := range of {
			same = same && s.sets[i].value == set.value
		}
		if same {
			dst = append(dst, set.value...)
			continue
		}
		dst = append(append(dst, "CASE "...), first.key...)
		for _, s := range of {
			dst = append(append(append(append(dst, " WHEN "...), s.is...), " THEN "...), s.sets[i].value...)
		}
		dst = append(dst, " END"...)
	}
	dst = append(append(append(dst, " WHERE "...), first.key...), " IN ("...)
	for i, s := range of {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = append(dst, s.is...)
	}
	return append(dst, ')')
}

// merged makes fewer statements of some, where that can be done, and says how many rows each touches.
func merged(list []engine.Statement) (out []engine.Statement) {
	var r run
	flush := func(next int) {
		switch n := len(r.of); {
		case n == 1:
			out = append(out, list[next-1])
		case n > 1:
			out = append(out, engine.Statement{SQL: merge(nil, r.of), Rows: int64(n), Transaction: list[next-1].Transaction})
		}
		r = run{}
	}
	for i, x := range list {
		s, ok := single{}, false
		if x.Rows == 1 {
			s, ok = singleOf(x.SQL)
		}
		switch {
		case !ok:
			flush(i)
			out = append(out, x)
		case !r.takes(s):
			flush(i)
			r.takes(s)
		}
	}
	flush(len(list))
	return out
}
