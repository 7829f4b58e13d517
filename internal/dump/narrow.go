package dump

import (
	"slices"

	"grainkeep/internal/engine"
	"grainkeep/internal/phrase"
)

// Condition says which rows of a table are dumped.
type Condition struct {
	Table string // pattern
	SQL   string
}

// narrow leaves tables out of a catalog, and what needs them, and notes which rows of
// the others are wanted. It gives the names of what is left out.
func (r *runner) narrow(cat *engine.Catalog, database string) (left []string) {
	gone := map[string]bool{}
	var tables []engine.Table
	for _, t := range cat.Tables {
		if r.matches(r.Skip, database, t) {
			gone[t.ID], gone["table "+t.ID] = true, true
			left = append(left, "table "+t.ID)
			continue
		}
		for _, c := range r.Rows {
			if r.matches([]string{c.Table}, database, t) {
				t.Condition, t.Blocks = c.SQL, 0
			}
		}
		tables = append(tables, t)
	}
	cat.Tables = tables
	if len(gone) == 0 {
		return nil
	}
	for found := true; found; {
		found = false
		cat.Objects = slices.DeleteFunc(cat.Objects, func(o engine.Object) bool {
			out := gone[o.Table] || gone[o.ID()] || slices.ContainsFunc(o.Needs,
				func(id string) bool { return gone[id] })
			if out && !gone[o.ID()] {
				gone[o.ID()], found = true, true
				left = append(left, o.ID())
			}
			return out
		})
	}
	return left
}

// matches says whether one of some patterns means a table: by its name alone, or with
// its schema or its database before it.
func (r *runner) matches(patterns []string, database string, t engine.Table) bool {
	any := false
	for _, p := range patterns {
		if phrase.Match(p, t.Name) || phrase.Match(p, database+"."+t.Name) || t.Schema != "" && phrase.Match(p,
			t.Schema+"."+t.Name) {
			r.matched[p], any = true, true
		}
	}
	return any
}

// unmatched warns of entries that meant no table of any database.
func (r *runner) unmatched() {
	if len(r.res.Failed) > 0 {
		return
	}
	for _, p := range r.Skip {
		if !r.matched[p] {
			r.feed.Warn("entry-idle", "", "the entry %q of skip_tables matches no table", p)
		}
	}
	for _, c := range r.Rows {
		if !r.matched[c.Table] {
			r.feed.Warn("entry-idle", "", "the table %q of rows matches no table", c.Table)
		}
	}
}
