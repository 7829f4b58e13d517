package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/compare"
	"grainkeep/internal/config"
	"grainkeep/internal/fault"
	"grainkeep/internal/job"
	"grainkeep/internal/phrase"
)

type compareFlags struct {
	from, at, then, live, room string
	tables                     []string
	rows, all                  bool
}

func (a *app) compareCommand() *cobra.Command {
	var c compareFlags
	cmd := explain(&cobra.Command{
		Use: "compare DUMP [DUMP]", Short: "Show what differs between two dumps, two moments, or a dump and the live database",
		Args:              args(1, 2, "a dump"),
		RunE:              func(_ *cobra.Command, names []string) error { return a.compare(names, c) },
		ValidArgsFunction: a.dumpNames(&c.from),
	}, usage{`Compares two dumps of a database: two that are named, one at two moments (--at, --then; left
out: the newest), or one with the live database (--with). Objects are compared by their
definitions, which are shown as they were and as they are; tables by their fingerprints, so that no
row of a dump is read. With --rows, the tables that differ are read, and their rows are told apart
by key: added, removed, or with other values.`, [2]string{
		"grainkeep compare nightly/bookings --at '2 days' --rows",
		"grainkeep compare nightly/bookings --with quay"}})
	a.fromFlag(cmd, &c.from)
	f := cmd.Flags()
	f.StringVar(&c.at, "at", "", "the first is the newest dump not later than `WHEN`: a time, a date, an age")
	f.StringVar(&c.then, "then", "", "the second is the newest dump not later than `WHEN`")
	f.StringVar(&c.live, "with", "", "compare with the database of that name on this `SOURCE`: a configured name, a URL or a folder")
	a.completeOption(cmd, "with", job.Set.Sources)
	f.BoolVar(&c.rows, "rows", false, "show which rows differ")
	f.StringArrayVar(&c.tables, "table", nil, "show which rows of this `TABLE` or pattern differ; may be repeated")
	roomFlag(cmd, &c.room)
	f.BoolVar(&c.all, "all", false, "show every difference, not just the first of each kind")
	return cmd
}

// shownObjects is how many differences of each kind are shown, unless told to show all.
const shownObjects = 20

func (a *app) compare(names []string, c compareFlags) error {
	if c.live != "" && (len(names) > 1 || c.then != "") {
		return fault.Wrong("flag-wrong", "--with is the second").Advise("name one dump, and leave --then out")
	}
	if len(names) == 1 && c.live == "" && c.at == "" {
		return fault.Wrong("argument-missing", "compare needs two").
			Advise("name a second dump, or a moment of this one with --at, or the live database with --with SOURCE")
	}
	f, err := a.config()
	if err != nil {
		return err
	}
	was, unpin, err := a.stateOf(f, names[0], c.from, c.at)
	if err != nil {
		return err
	}
	defer unpin()
	var is *compare.State
	if c.live != "" {
		is, err = a.liveState(f, names[0], c)
	} else {
		is, unpin, err = a.stateOf(f, names[len(names)-1], c.from, c.then)
		defer unpin()
	}
	if err != nil {
		return err
	}
	defer func() {
		if err := is.Close(); err != nil {
			a.mention(err)
		}
	}()
	r, err := compare.States(was, is)
	if err != nil {
		return err
	}
	if c.rows || len(c.tables) > 0 {
		if err := a.compareRows(was, is, r, c); err != nil {
			return err
		}
	}
	a.printCompared(was, is, r, c.all)
	return a.emit(map[string]any{"was": was.Title, "is": is.Title, "differences": r})
}

// stateOf is the state that a dump has. Until the returned function is called, which is never nil, it is not removed.
func (a *app) stateOf(f *config.File, name, from, at string) (s *compare.State, unpin func(), err error) {
	p, err := a.onePlan(f, name, from, at)
	if err != nil {
		return nil, func() {}, err
	}
	if unpin, err = a.pin(p.Last()); err != nil {
		return nil, func() {}, err
	}
	if s, err = compare.Dump(a.ctx, p); err == nil {
		s.Title += " of " + phrase.Both(p.Until, chain.Zone(p.Last()))
	}
	return s, unpin, err
}

func (a *app) onePlan(f *config.File, name, from, at string) (*chain.Plan, error) {
	found, err := a.plansAt(f, from, name, at)
	if err != nil {
		return nil, err
	}
	if len(found) > 1 {
		return nil, ambiguous(found, name)
	}
	if found[0].Last().Manifest.Payload.SQL == nil {
		return nil, fault.Wrong("compare-impossible", "%s holds no database", name).Advise("databases are compared only")
	}
	return found[0], nil
}

func (a *app) liveState(f *config.File, name string, c compareFlags) (*compare.State, error) {
	p, err := a.onePlan(f, name, c.from, c.at)
	if err != nil {
		return nil, err
	}
	at, err := job.Of(f).Address(c.live)
	if err != nil {
		return nil, err
	}
	database := p.Last().Manifest.Database
	if at.Database != "" {
		database = at.Database
	}
	feed, end := a.feed()
	defer end()
	return compare.Live(a.ctx, at, database, feed)
}

func (a *app) printCompared(was, is *compare.State, r *compare.Result, all bool) {
	a.print("was  %s\nis   %s\n", was.Title, is.Title)
	t := a.newTable([]string{"", "Table", "Rows then", "Rows now", "Difference"}, "Rows then", "Rows now", "Difference")
	for i, d := range r.Tables {
		if i == shownObjects && !all {
			t.row("", "…", "", "", "")
			break
		}
		delta := phrase.Count(d.Rows.Is - d.Rows.Was)
		if d.Rows.Is > d.Rows.Was {
			delta = "+" + delta
		}
		if d.Rows.Is == d.Rows.Was {
			delta = "other values"
		}
		t.row(d.How, d.Of, phrase.Count(d.Rows.Was), phrase.Count(d.Rows.Is), delta)
	}
	if len(r.Tables) > 0 {
		a.print("\n%s\n", t.render())
	}
	for _, d := range r.Tables {
		if d.Which != nil {
			a.printRows(d.Which)
		}
	}
	for i, d := range r.Objects {
		if i == shownObjects && !all {
			a.say("and %s; --all shows them", phrase.Plural(int64(len(r.Objects)-shownObjects), "more object"))
			break
		}
		a.print("\n%s  the %s\n", d.How, d.Of)
		for _, side := range [][2]string{{"-", d.Was}, {"+", d.Is}} {
			a.sideOf(side[0], side[1], d.How != compare.Changed || all)
		}
	}
	if len(r.Objects) > 0 {
		a.print("\n")
	}
	if len(r.Unknown) > 0 {
		a.say("Not told of %s, whose fingerprints are not known there; --rows compares the rows: %s", phrase.Plural(int64(len(r.Unknown)),
			"table"), strings.Join(r.Unknown, ", "))
	}
	a.say("Different: %s, and the rows of %s. The same: %s.", phrase.Plural(int64(len(r.Objects)), "object"),
		phrase.Plural(int64(len(r.Tables)), "table"), phrase.Plural(int64(r.Same), "table"))
}

// sideOf shows a definition, or its first lines.
func (a *app) sideOf(mark, sql string, whole bool) {
	if sql == "" {
		return
	}
	for i, line := range strings.Split(sql, "\n") {
		if i == shownObjects && !whole {
			a.print("  %s …\n", mark)
			return
		}
		a.print("  %s %s\n", mark, phrase.Shorten(line, shownLine))
	}
}
