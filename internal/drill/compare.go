package drill

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/pattern"
	"grainkeep/internal/payload"
	"grainkeep/internal/phrase"
	"grainkeep/internal/restore"
	"grainkeep/internal/rows"
)

// comparison holds a restored database against its manifest.
type comparison struct {
	d     *keep.Dump
	files *payload.Reader // of the structure
	snap  engine.Snapshot
	out   *restore.Outcome
	proof *keep.Proof

	// old says that the dump is of before dumps held what the server itself says: some objects
	// had less around them then.
	old bool

	// sameSeries says that the server is of the series that the dump is of: only then does
	// it show definitions in the same words.
	sameSeries bool
}

// Bounds of what a proof says of differences in detail.
const (
	mostDetails = 200
	longestForm = 2000 // bytes of a definition
)

// differ notes a difference; was and is are two forms of a definition, or empty.
func (c *comparison) differ(d keep.Detail) {
	c.proof.Differences = append(c.proof.Differences, d.Text)
	if len(c.proof.Details) < mostDetails {
		d.Was, d.Is = phrase.Shorten(d.Was, longestForm), phrase.Shorten(d.Is, longestForm)
		c.proof.Details = append(c.proof.Details, d)
	}
}

func (c *comparison) rowsDiffer(of, format string, args ...any) {
	c.differ(keep.Detail{Concern: keep.OfRows, Of: of, Text: fmt.Sprintf(format, args...)})
}

func (c *comparison) definitionDiffers(of, format string, args ...any) {
	c.differ(keep.Detail{Concern: keep.OfDefinitions, Of: of, Text: fmt.Sprintf(format, args...)})
}

// objects compares the database's facts and everything but rows.
func (c *comparison) objects(ctx context.Context) error {
	cat := c.snap.Catalog()
	for name, want := range c.d.Manifest.Facts() {
		if got := cat.Facts[name]; got != want {
			c.definitionDiffers("the database's "+name, "the database's %s is %q and was %q", name, got, want)
		}
	}
	dumped, err := c.files.Objects(ctx)
	if err != nil {
		return err
	}
	restored := map[string]engine.Object{}
	for _, o := range cat.Objects {
		if compared(o) {
			restored[o.ID()] = o
		}
	}
	for _, want := range dumped {
		if !compared(want) {
			continue
		}
		c.proof.Objects++
		got, ok := restored[want.ID()]
		delete(restored, want.ID())
		switch {
		case !ok || want.Kind == "refresh":
			c.missing(want, ok)
		case ok && c.sameSeries && !c.same(want, got):
			c.differ(keep.Detail{Concern: keep.OfDefinitions, Of: want.ID(),
				Text: "the " + want.ID() + " came back otherwise than it was " +
					"dumped", Was: strings.TrimSpace(want.SQL), Is: strings.TrimSpace(got.SQL)})
		}
	}
	var more []string
	for id := range restored {
		more = append(more, id)
	}
	sort.Strings(more)
	for _, id := range more {
		if c.old { // there were fewer kinds, too
			break
		}
		c.definitionDiffers(id, "there is a %s that was not dumped", id)
	}
	return nil
}

// missing tells of what did not come back. What the target cannot have (a role, a provider of
// labels) is no fault of the dump; without a rule that tells rows apart, or without the
// rows of a materialised view, nothing is proven.
func (c *comparison) missing(want engine.Object, there bool) {
	i := slices.IndexFunc(c.out.LeftOut, func(s restore.Lost) bool { return s.ID == want.ID() })
	switch {
	case i < 0 && !there:
		c.definitionDiffers(want.ID(), "the %s did not come back", want.ID())
	case i >= 0 && (want.Section == engine.Keys || want.Kind == "exclusion constraint" || want.Kind == "refresh"):
		c.definitionDiffers(want.ID(), "the %s did not come back: %s", want.ID(), c.out.LeftOut[i].Why)
	}
}

// compared says whether a drill restores such an object.
func compared(o engine.Object) bool { return o.Section != engine.Owners && o.Section != engine.Active }

func (c *comparison) same(want, got engine.Object) bool {
	if slices.ContainsFunc(c.out.Unchecked, func(s restore.Lost) bool { return s.ID == want.ID() }) {
		c := Canonical(want.Unchecked) // a server that cannot tell it from a tested one shows it as such
		return c == Canonical(got.SQL) || c == Canonical(got.Unchecked)
	}
	if want.Kind == "sequence value" { // older dumps say it in other words
		return slices.Equal(sortedValues(want.SQL), sortedValues(got.SQL))
	}
	a, b := want.AsCurrentUser(want.SQL), got.AsCurrentUser(got.SQL)
	return a == b || Canonical(a) == Canonical(b) ||
		c.old && strings.Contains(Canonical(b), Canonical(a))
}

// values finds the texts, numbers and truths in a statement.
var values = pattern.Of(`'(?:[^']|'')*'|-?\b\d+\b|\btrue\b|\bfalse\b`)

func sortedValues(sql string) []string {
	list := values().FindAllString(sql, -1)
	slices.Sort(list)
	return list
}

// tables reads every row back and compares counts and fingerprints.
func (c *comparison) tables(ctx context.Context, meter *event.Meter) error {
	cat := c.snap.Catalog()
	want := map[string]manifest.Table{}
	for _, t := range c.d.Manifest.Tables() {
		want[t.ID] = t
	}
	for i := range cat.Tables { // how much there is to read is known
		t := &cat.Tables[i]
		t.Bytes, t.Rows = want[t.ID].Bytes, want[t.ID].Rows
	}
	meter.Begin("reading "+c.d.Manifest.Database+" back", len(cat.Tables), 0)
	found, err := rows.Scan(ctx, rows.Scanning{Snapshot: c.snap, Catalog: cat, Meter: meter,
		Samples: func(table int) int64 {
			if w := want[cat.Tables[table].ID].Witness; w != nil {
				return w.Sample
			}
			return 0
		}})
	if err != nil {
		return err
	}
	unknown := int64(0)
	got := map[string]*rows.Counter{} // by table, or by the tree that it is compared as
	for i, t := range cat.Tables {
		w, ok := want[t.ID]
		delete(want, t.ID)
		c.witness(&w, &found[i])
		switch {
		case !ok:
			c.rowsDiffer("table "+t.ID, "there is a table %s that was not dumped", t.ID)
			continue
		case !slices.Equal(w.Columns, t.Columns):
			c.definitionDiffers("table "+t.ID, "the table %s has the columns %s and had %s", t.ID,
				strings.Join(t.Columns, ", "),
				strings.Join(w.Columns, ", "))
		case w.About:
			unknown++
		case w.Sum == "":
			unknown++
			c.count("table "+t.ID, w.Rows, &found[i].Counter)
		case w.Through == "":
			c.rows("table "+t.ID, w.Rows, w.Sum, &found[i].Counter)
		case got[w.Through] == nil:
			got[w.Through] = &found[i].Counter
		default:
			got[w.Through].Add(&found[i].Counter)
		}
		c.proof.Tables++
		c.proof.Rows += found[i].Rows
	}
	for id := range want {
		c.rowsDiffer("table "+id, "the table %s did not come back", id)
	}
	c.trees(got)
	if unknown > 0 {
		c.proof.NotTested = append(c.proof.NotTested, fmt.Sprintf("all rows of %s, which the server's log told: each "+
			"change met the very row that it names, and samples were compared; the next full compares all of them",
			phrase.Plural(unknown, "table")))
	}
	sort.Strings(c.proof.Differences)
	sort.SliceStable(c.proof.Details, func(a, b int) bool { return c.proof.Details[a].Of < c.proof.Details[b].Of })
	return nil
}

// trees compares partitioned tables as wholes, where rows may land elsewhere.
func (c *comparison) trees(got map[string]*rows.Counter) {
	counts, sums := map[string]int64{}, map[string]*rows.Fingerprint{}
	for _, t := range c.d.Manifest.Tables() {
		if t.Through == "" || got[t.Through] == nil {
			continue
		}
		if sums[t.Through] == nil {
			sums[t.Through] = &rows.Fingerprint{}
		}
		counts[t.Through] += t.Rows
		if err := sums[t.Through].AddText(t.Sum); err != nil {
			c.rowsDiffer("table "+t.ID, "the table %s: %v", t.ID, err)
		}
	}
	for id, sum := range sums {
		c.rows("partitioned table "+id, counts[id], sum.String(), got[id])
	}
}

// count compares the numbers of rows, and says whether they are the same.
func (c *comparison) count(name string, count int64, got *rows.Counter) bool {
	if got.Rows != count {
		c.rowsDiffer(name, "the %s has %s and had %s", name, phrase.Plural(got.Rows, "row"), phrase.Plural(count,
			"row"))
	}
	return got.Rows == count
}

func (c *comparison) rows(name string, count int64, sum string, got *rows.Counter) {
	switch {
	case !c.count(name, count, got):
	case got.Sum.String() != sum:
		c.rowsDiffer(name, "the %s has other values: its fingerprint is %s and was %s", name, got.Sum, sum)
	}
}

// checks asks the administrator's questions.
func (c *comparison) checks(ctx context.Context, checks []Check) error {
	for _, q := range checks {
		if q.Database != "" && q.Database != c.d.Manifest.Database && !phrase.Match(q.Database, c.d.Manifest.Database) {
			continue
		}
		got, err := c.snap.Ask(ctx, q.SQL)
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if fault.HasCode(err, engine.Trouble) {
			return err
		}
		a := keep.Answer{SQL: q.SQL, Wanted: q.Answer, Got: got, Good: err == nil && got == q.Answer}
		if err != nil {
			a.Got = "error: " + err.Error()
		}
		c.proof.Checks = append(c.proof.Checks, a)
		if !a.Good {
			c.differ(keep.Detail{Concern: keep.OfChecks, Of: "check",
				Text: fmt.Sprintf("the check %q answers %q instead of %q", q.SQL, a.Got, q.Answer)})
		}
	}
	return nil
}
