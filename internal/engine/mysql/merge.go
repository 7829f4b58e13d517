package mysql

import (
	"bytes"
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
		s.kind, n = textValue, quotedLength(string(sql))
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

// goesWith says whether two statements can be one.
func (s single) goesWith(o single) bool {
	if s.removes != o.removes || s.table != o.table || s.key != o.key || len(s.sets) != len(o.sets) {
		return false
	}
	for i := range s.sets {
		a, b := s.sets[i], o.sets[i]
		if a.column != b.column || a.value != b.value && (a.kind == columnValue || b.kind == columnValue ||
			a.kind != b.kind && a.kind != nullValue && b.kind != nullValue) {
			return false
		}
	}
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
	var run []single
	flush := func(at int) {
		switch {
		case len(run) == 1:
			out = append(out, list[at-1])
		case len(run) > 1:
			out = append(out, engine.Statement{SQL: merge(nil, run), Rows: int64(len(run)), Transaction: list[at-1].Transaction})
		}
		run = run[:0]
	}
	named := map[string]bool{} // the rows of the run
	for i, x := range list {
		s, ok := single{}, false
		if x.Rows == 1 {
			s, ok = singleOf(x.SQL)
		}
		// A key that comes twice in the run, in any form, is changed twice.
		if len(run) > 0 && (!ok || !run[0].goesWith(s) || named[s.is] || len(run) == mostMerged || !s.joins(run)) {
			flush(i)
			clear(named)
		}
		if !ok {
			out = append(out, x)
			continue
		}
		named[s.is] = true
		run = append(run, s)
	}
	flush(len(list))
	return out
}

// joins says whether each column of the statement goes with all of a run: NULL goes with anything, and two others may not.
func (s single) joins(run []single) bool {
	for _, o := range run[1:] {
		if !o.goesWith(s) {
			return false
		}
	}
	return true
}
