package cli

import (
	"slices"
	"strings"

	"grainkeep/internal/ask"
	"grainkeep/internal/compare"
	"grainkeep/internal/fault"
	"grainkeep/internal/phrase"
)

// Bounds of the rows that are shown of a table, unless all are asked for, and of those that JSON has.
const (
	shownDiffering = 20
	jsonDiffering  = 1000
)

// compareRows finds which rows of the tables that differ do.
func (a *app) compareRows(was, is *compare.State, r *compare.Result, c compareFlags) error {
	room, err := roomIn(c.room)
	if err != nil {
		return err
	}
	for _, pattern := range c.tables {
		if !slices.ContainsFunc(was.Tables, func(t compare.Table) bool { return tableNamed(pattern, t.ID) }) {
			return fault.Wrong("table-absent", "%s has no table %q", was.Title, pattern).Advise("'grainkeep show' lists its tables")
		}
	}
	feed, end := a.feed()
	defer end()
	open := []*ask.Session{}
	defer func() {
		for _, s := range open {
			if err := s.Close(); err != nil {
				a.mention(err)
			}
		}
	}()
	for _, state := range []*compare.State{was, is} {
		s, err := state.Ask(a.ctx, room/2, feed)
		if err != nil {
			return err
		}
		open = append(open, s)
	}
	most := shownDiffering
	if c.all || a.json {
		most = jsonDiffering
	}
	if err := a.tellUnknown(r, open, c, most); err != nil {
		return err
	}
	for i, d := range r.Tables {
		if d.Which != nil {
			continue
		}
		wanted := len(c.tables) == 0 || slices.ContainsFunc(c.tables, func(p string) bool { return tableNamed(p, d.Of) })
		if d.How != compare.Changed || !wanted {
			continue
		}
		if r.Tables[i].Which, err = compare.RowsOf(a.ctx, open[0], open[1], d.Of, most); err != nil {
			return err
		}
	}
	return nil
}

// tellUnknown compares the rows of tables whose fingerprints are not known.
func (a *app) tellUnknown(r *compare.Result, open []*ask.Session, c compareFlags, most int) error {
	left := []string{}
	for _, id := range r.Unknown {
		if len(c.tables) > 0 && !slices.ContainsFunc(c.tables, func(p string) bool { return tableNamed(p, id) }) {
			left = append(left, id)
			continue
		}
		which, err := compare.RowsOf(a.ctx, open[0], open[1], id, most)
		if err != nil {
			return err
		}
		if which.Added+which.Removed+which.Changed == 0 {
			r.Same++
			continue
		}
		r.Tables = append(r.Tables, compare.Difference{How: compare.Changed, Of: id, Which: which,
			Rows: &compare.Rows{Was: which.Was, Is: which.Is}})
	}
	r.Unknown = left
	slices.SortStableFunc(r.Tables, func(a, b compare.Difference) int { return strings.Compare(a.Of, b.Of) })
	return nil
}

// tableNamed says whether people mean a table of an ID: as SQL writes it, or plainly, without the schema too, or by a
// pattern.
func tableNamed(pattern, id string) bool {
	plain := strings.NewReplacer("`", "", `"`, "").Replace(id)
	_, last, _ := strings.Cut(plain, ".")
	return slices.ContainsFunc([]string{id, plain, last}, func(n string) bool { return n == pattern || phrase.Match(pattern, n) })
}

// printRows shows which rows of a table differ.
func (a *app) printRows(t *compare.TableRows) {
	a.print("\n%s: %s added, %s removed, %s changed%s\n", t.Table, phrase.Plural(t.Added, "row"),
		phrase.Count(t.Removed), phrase.Count(t.Changed),
		map[bool]string{true: " (it has no key: a row with other values is one removed and one added)"}[len(t.Key) == 0])
	if len(t.Left) > 0 {
		a.print("  not compared, since just one of the two has it: %s\n", strings.Join(t.Left, ", "))
	}
	out := a.newTable(nil)
	for _, d := range t.Rows {
		mark := map[string]string{compare.Added: "+", compare.Removed: "-", compare.Changed: "~"}[d.How]
		var key, rest []string
		for _, k := range d.Key {
			key = append(key, k.Column+" "+value(k.Value))
		}
		for _, c := range d.Changed {
			rest = append(rest, c.Column+": "+value(c.Was)+" → "+value(c.Is))
		}
		for _, v := range d.Values {
			if !slices.Contains(t.Key, v.Column) {
				rest = append(rest, v.Column+" "+value(v.Value))
			}
		}
		out.row("  "+mark, strings.Join(key, ", "), strings.Join(rest, ", "))
	}
	if len(t.Rows) > 0 {
		a.print("%s\n", out.render())
	}
	if more := t.Added + t.Removed + t.Changed - int64(len(t.Rows)); more > 0 {
		a.print("  and %s%s\n", phrase.Plural(more, "more row"),
			map[bool]string{true: "; --all shows up to 1,000"}[len(t.Rows) < jsonDiffering])
	}
}

// value is a value as it is shown: short, and on one line.
func value(v *string) string {
	if v == nil {
		return "NULL"
	}
	return phrase.Shorten(*v, shownValue)
}
