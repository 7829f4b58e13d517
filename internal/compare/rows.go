package compare

import (
	"context"
	"errors"
	"iter"
	"slices"

	"grainkeep/internal/ask"
	"grainkeep/internal/engine"
)

// RowDifference is a row that one of two states has, or both have with other values.
type RowDifference struct {
	How     string   `json:"how"`
	Key     []Named  `json:"key,omitempty"`     // of a table that has one
	Values  []Named  `json:"values,omitempty"`  // of a row that is added or removed
	Changed []Change `json:"changed,omitempty"` // columns
}

// Named is the value of a column, as people read it; nil: NULL.
type Named struct {
	Column string  `json:"column"`
	Value  *string `json:"value"`
}

// Change is a column with what was, and is, in it; nil: NULL.
type Change struct {
	Column string  `json:"column"`
	Was    *string `json:"was"`
	Is     *string `json:"is"`
}

// RowCounts are how many rows differ.
type RowCounts struct {
	Added   int64 `json:"added"`
	Removed int64 `json:"removed"`
	Changed int64 `json:"changed"`
}

// TableRows says which rows of a table differ.
type TableRows struct {
	RowCounts
	Key   []string        `json:"key"`   // by which rows are told apart; none: by all that is in them
	Rows  []RowDifference `json:"rows"`  // the first of them
	Left  []string        `json:"left"`  // columns that just one of the states has
	Table string          `json:"table"` // its ID

	Was, Is int64 `json:"-"` // how many rows it had, and has
}

var errEnough = errors.New("no more rows are wanted")

// RowsOf finds the rows of a table that differ between two states, told apart by the key that both have; most bounds how
// many of them are given.
func RowsOf(ctx context.Context, was, is *ask.Session, id string, most int) (out *TableRows, err error) {
	out = &TableRows{Table: id, Rows: []RowDifference{}, Left: []string{}}
	now := is.Columns(id)
	var columns []string
	for _, c := range was.Columns(id) {
		if slices.Contains(now, c) {
			columns = append(columns, c)
		} else {
			out.Left = append(out.Left, c)
		}
	}
	for _, c := range now {
		if !slices.Contains(columns, c) {
			out.Left = append(out.Left, c)
		}
	}
	by := was.Key(id)
	if !slices.Equal(by, is.Key(id)) {
		by = nil
	}
	if out.Key = by; by == nil {
		by, out.Key = columns, []string{}
	}
	if err := differing(ctx, was, is, out, columns, by); err != nil {
		return nil, err
	}
	m := &merge{out: out, columns: columns, most: most}
	for _, k := range by {
		m.key = append(m.key, slices.Index(columns, k))
	}
	read := func(s *ask.Session, count *int64) (iter.Seq[[]engine.Cell], *error) {
		var failed error
		counts := *count == 0
		return func(yield func([]engine.Cell) bool) {
			failed = s.Rows(ctx, id, columns, by, func(row []engine.Cell) error {
				if counts {
					*count++
				}
				if !yield(row) {
					return errEnough
				}
				return nil
			})
		}, &failed
	}
	a, failedA := read(was, &out.Was)
	b, failedB := read(is, &out.Is)
	m.run(a, b)
	for _, err := range []error{*failedA, *failedB} {
		if err != nil && !errors.Is(err, errEnough) {
			return nil, err
		}
	}
	return out, nil
}

// merge goes through two lists of rows in the order of a key, side by side.
type merge struct {
	out     *TableRows
	columns []string
	key     []int // the places of the key's columns
	most    int
}

func (m *merge) run(was, is iter.Seq[[]engine.Cell]) {
	nextA, stopA := iter.Pull(was)
	defer stopA()
	nextB, stopB := iter.Pull(is)
	defer stopB()
	a, moreA := nextA()
	b, moreB := nextB()
	for moreA || moreB {
		order := 0
		switch {
		case !moreB:
			order = -1
		case !moreA:
			order = 1
		default:
			order = m.compare(a, b)
		}
		switch {
		case order < 0:
			m.only(Removed, a, &m.out.Removed)
		case order > 0:
			m.only(Added, b, &m.out.Added)
		default:
			m.both(a, b)
		}
		if order <= 0 {
			a, moreA = nextA()
		}
		if order >= 0 {
			b, moreB = nextB()
		}
	}
}

func (m *merge) compare(a, b []engine.Cell) int {
	for _, k := range m.key {
		if n := a[k].Compare(b[k]); n != 0 {
			return n
		}
	}
	return 0
}

func text(c engine.Cell) *string {
	if c.Kind == engine.NullCell {
		return nil
	}
	s := c.String()
	return &s
}

// only notes a row that just one of the states has.
func (m *merge) only(how string, row []engine.Cell, count *int64) {
	if *count++; len(m.out.Rows) >= m.most {
		return
	}
	d := RowDifference{How: how, Key: m.keyOf(row)}
	for i, c := range row {
		d.Values = append(d.Values, Named{m.columns[i], text(c)})
	}
	m.out.Rows = append(m.out.Rows, d)
}

func (m *merge) keyOf(row []engine.Cell) (list []Named) {
	if len(m.out.Key) == 0 {
		return nil
	}
	for _, k := range m.key {
		list = append(list, Named{m.columns[k], text(row[k])})
	}
	return list
}

// both notes what differs of a row that both states have.
func (m *merge) both(a, b []engine.Cell) {
	var changed []Change
	for i := range a {
		if a[i].Kind != b[i].Kind || a[i].Compare(b[i]) != 0 {
			changed = append(changed, Change{m.columns[i], text(a[i]), text(b[i])})
		}
	}
	if len(changed) == 0 {
		return
	}
	if m.out.Changed++; len(m.out.Rows) < m.most {
		m.out.Rows = append(m.out.Rows, RowDifference{How: Changed, Key: m.keyOf(a), Changed: changed})
	}
}

// differing lets both sides load only what lies in ranges whose digests differ, where each has its rows in one place.
func differing(ctx context.Context, was, is *ask.Session, out *TableRows, columns, by []string) error {
	a, err := was.Digests(ctx, out.Table, columns, by)
	if err != nil || a == nil {
		return err
	}
	b, err := is.Digests(ctx, out.Table, columns, by)
	if err != nil || b == nil {
		return err
	}
	out.Was, out.Is = a.Rows, b.Rows
	if err := was.Only(ctx, out.Table, columns, by, a, b); err != nil {
		return err
	}
	return is.Only(ctx, out.Table, columns, by, a, b)
}
