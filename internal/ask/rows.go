package ask

import (
	"context"
	"slices"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// Exact keeps exact numbers that are no part of a key as they are written: 1.50 is not 1.5. It is called before anything
// is asked.
func (s *Session) Exact(ctx context.Context) error {
	for _, t := range s.tables {
		t.exact = !sqliteText(s.text)
		if err := s.make(ctx, t); err != nil {
			return err
		}
	}
	return nil
}

// exactly says whether the values of a column are kept as they are written.
func (t *table) exactly(c engine.Column) bool {
	return t.exact && c.Class == engine.Decimal && c.Key == 0
}

// Key are the columns by which the rows of a table are told apart; none: it has no key.
func (s *Session) Key(id string) (list []string) {
	t := s.byID[id]
	if t == nil {
		return nil
	}
	for place := 1; place <= t.keyed(); place++ {
		for i, c := range t.defined {
			if c.Key == place {
				list = append(list, t.Columns[i])
			}
		}
	}
	if len(list) == 0 && isRowid(s.text, t.defined[0]) {
		return t.Columns[:1]
	}
	return list
}

// Columns are those of a table.
func (s *Session) Columns(id string) []string {
	t := s.byID[id]
	if t == nil {
		return nil
	}
	if t.keyed() > 0 && isRowid(s.text, t.defined[0]) { // the number of a row says nothing where a key does
		return t.Columns[1:]
	}
	return t.Columns
}

// Rows gives some columns of all rows of a table in the order of some of them. The cells are valid until the next row.
func (s *Session) Rows(ctx context.Context, id string, columns, by []string, each func([]engine.Cell) error) error {
	t := s.byID[id]
	if t == nil {
		return fault.New("table-absent", nil, "there is no table %s", id)
	}
	if err := s.load(ctx, t, slices.Concat(columns, by), filter{}); err != nil {
		return roomier(err)
	}
	list := func(names []string) string {
		quotedNames := make([]string, len(names))
		for i, n := range names {
			quotedNames[i] = quoted(n)
		}
		return strings.Join(quotedNames, ", ")
	}
	return s.db.Query(ctx, "SELECT "+list(columns)+" FROM "+quoted(t.name)+" ORDER BY "+list(by), func([]string) error { return nil }, each)
}
