// Package report puts together what others are shown: tables of dumps, runs, restores, drills, growth and copies, and
// plots; as text, CSV, JSON, a spreadsheet, or one HTML page.
package report

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"grainkeep/internal/phrase"
)

// Report is one, put together.
type Report struct {
	Title  string
	At     time.Time
	Of     string // what of, in words: the filter
	Zone   *time.Location
	Tables []Table
	Plots  []Plot
}

// Table is a part of a report.
type Table struct {
	Name    string // a word, for --section
	Title   string
	Columns []Column
	Rows    [][]any // string, int64, Bytes, time.Time, time.Duration; what is not known is nil
}

// Column is a column of a table.
type Column struct {
	Key   string // for machines
	Title string
	Right bool
}

// Bytes is a size.
type Bytes int64

// Ago is a time of which people want to know how long ago it is.
type Ago time.Time

// Mark is a word that says whether something is good.
type Mark struct {
	Word string
	Good bool
}

// Columns makes columns of their titles; numbers and sizes, which stand to the right, have a "#" in front.
func Columns(titles ...string) (list []Column) {
	for _, t := range titles {
		title, right := strings.CutPrefix(t, "#")
		list = append(list, Column{strings.ReplaceAll(strings.ToLower(title), " ", "_"), title, right})
	}
	return list
}

// Text is a cell for people.
func (r *Report) Text(cell any) string {
	switch v := cell.(type) {
	case nil:
		return "–"
	case string:
		if v == "" {
			return "–"
		}
		return phrase.Clean(v)
	case int64:
		return phrase.Count(v)
	case Bytes:
		return phrase.Bytes(int64(v))
	case time.Time:
		return phrase.Local(v, r.Zone)
	case Ago:
		return phrase.Ago(r.At.Sub(time.Time(v)))
	case time.Duration:
		return phrase.Duration(v)
	case Mark:
		return phrase.Clean(v.Word)
	}
	return phrase.Clean(fmt.Sprint(cell))
}

// Plain is a cell for machines: times in UTC, sizes in bytes, durations in seconds; nil: not known.
func Plain(cell any) any {
	switch v := cell.(type) {
	case Bytes:
		return int64(v)
	case time.Time:
		return v.UTC().Format(time.RFC3339)
	case Ago:
		return time.Time(v).UTC().Format(time.RFC3339)
	case time.Duration:
		return v.Seconds()
	case Mark:
		return v.Word
	}
	return cell
}

// Sort sorts a table by a column, by its key; a "-" in front sorts the other way. It fails for one that is not there.
func (t *Table) Sort(by string) error {
	key, down := strings.CutPrefix(by, "-")
	at := slices.IndexFunc(t.Columns, func(c Column) bool { return c.Key == key })
	if at < 0 {
		return fmt.Errorf("the part %s has no column %q; it has %s", t.Name, key, strings.Join(t.keys(), ", "))
	}
	slices.SortStableFunc(t.Rows, func(x, y []any) int {
		n := compare(x[at], y[at])
		if down {
			n = -n
		}
		return n
	})
	return nil
}

func (t *Table) keys() (list []string) {
	for _, c := range t.Columns {
		list = append(list, c.Key)
	}
	return list
}

// compare orders cells of one column; what is not known comes first.
func compare(x, y any) int {
	switch v := x.(type) {
	case nil:
		if y == nil {
			return 0
		}
		return -1
	case int64:
		if w, is := y.(int64); is {
			return cmp.Compare(v, w)
		}
	case Bytes:
		if w, is := y.(Bytes); is {
			return cmp.Compare(v, w)
		}
	case time.Duration:
		if w, is := y.(time.Duration); is {
			return cmp.Compare(v, w)
		}
	case time.Time:
		if w, is := y.(time.Time); is {
			return v.Compare(w)
		}
	case Ago:
		if w, is := y.(Ago); is {
			return time.Time(v).Compare(time.Time(w))
		}
	}
	if y == nil {
		return 1
	}
	return strings.Compare(fmt.Sprint(Plain(x)), fmt.Sprint(Plain(y)))
}
