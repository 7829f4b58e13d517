package cli

import (
	"errors"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/payload"
	"grainkeep/internal/phrase"
	"grainkeep/internal/restore"
)

type findFlags struct {
	from, since, until, text, key string
	tables                        []string
	statements, all               bool
}

// mostFound is how many lines are listed, and mostStatements how many statements of each, unless all are asked for.
const (
	mostFound      = 100
	mostStatements = 5
)

func (a *app) findCommand() *cobra.Command {
	var w findFlags
	cmd := explain(&cobra.Command{
		Use: "find JOB/DATABASE", Short: "Find the transaction that changed a table, a row or a value",
		Args:              args(1, 1, "a database"),
		RunE:              func(_ *cobra.Command, names []string) error { return a.findChanges(names[0], w) },
		ValidArgsFunction: a.dumpNames(&w.from),
	}, usage{`Lists the transactions that increments hold from the server's log, without a server: so the
moment before a mistake can be named. 'restore --at' takes what stands under Transaction, also
with "before" in front of it.`, [2]string{
		"grainkeep find nightly/bookings --table passenger --since '2 hours'",
		"grainkeep find nightly/bookings --table booking --key 4711 --statements"}})
	f := cmd.Flags()
	a.fromFlag(cmd, &w.from)
	f.StringArrayVar(&w.tables, "table", nil, "only what changed this `TABLE` or pattern; may be repeated")
	f.StringVar(&w.key, "key", "", "only what changed the row with this `KEY`, as SQL writes it")
	f.StringVar(&w.text, "text", "", "only statements that hold this `TEXT`")
	f.StringVar(&w.since, "since", "", "only from this `WHEN` on: a time, a date or an age")
	f.StringVar(&w.until, "until", "", "only up to this `WHEN`")
	f.BoolVar(&w.statements, "statements", false, "show the statements too")
	f.BoolVar(&w.all, "all", false, "all that there are, not the newest")
	return cmd
}

type jsonFound struct {
	Time        string   `json:"time"`
	Transaction string   `json:"transaction"`
	Position    string   `json:"position"`
	Table       string   `json:"table"`
	Inserted    int64    `json:"inserted"`
	Updated     int64    `json:"updated"`
	Removed     int64    `json:"removed"`
	Dump        string   `json:"dump"`
	Statements  []string `json:"statements,omitempty"`
}

func (a *app) findChanges(name string, w findFlags) error {
	f, err := a.config()
	if err != nil {
		return err
	}
	of, last, err := a.logged(f, name, w.from)
	if err != nil {
		return err
	}
	s := payload.Search{Text: w.text, Key: w.key}
	if w.statements {
		s.Statements = mostStatements
	}
	if len(w.tables) > 0 {
		if s.Tables, err = restore.PickTables(last.Manifest, w.tables); err != nil {
			return err
		}
	}
	zone := chain.Zone(last)
	if s.From, err = whenBegins("since", w.since, zone); err != nil {
		return err
	}
	if w.until != "" {
		when, err := phrase.ParseWhen(w.until, zone, clock.Now())
		if err != nil {
			return fault.Wrong("moment-unclear", "--until: %v", err)
		}
		s.Until = when.Until
	}
	var hits []payload.Hit
	passed := int64(0)
	for _, d := range of {
		if d.Manifest.Moment.Before(s.From) {
			continue
		}
		if err := d.Whole(a.ctx); err != nil {
			return err
		}
		err := s.In(a.ctx, d, func(h payload.Hit) error {
			if hits = append(hits, h); !w.all && len(hits) > mostFound {
				hits = hits[1:]
				passed++
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return a.printFound(hits, passed, zone, last)
}

// logged are the increments of a database that have something from a log, in order, and the newest dump.
func (a *app) logged(f *config.File, name, from string) (of []*keep.Dump, last *keep.Dump, err error) {
	job, database, one := strings.Cut(name, "/")
	if !one || isPath(name) {
		return nil, nil, fault.Wrong("name-unclear", "find needs one database").Advise("write JOB/DATABASE")
	}
	all, err := a.dumps(f, from)
	if err != nil {
		return nil, nil, err
	}
	found, err := chain.Find(all, name, "", clock.Now())
	if err != nil {
		return nil, nil, err
	}
	last = found[0]
	if err := last.Whole(a.ctx); err != nil {
		return nil, nil, err
	}
	good, lost := chain.Moments(all, job, database)
	for _, d := range append(lost, good...) {
		if d.Manifest.Kind != manifest.Full {
			of = append(of, d)
		}
	}
	keep.Sort(of)
	return of, last, nil
}

// whenBegins is the first instant that a text means; zero: it is empty.
func whenBegins(flag, text string, zone *time.Location) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	t, err := phrase.ParseSince(text, zone, clock.Now())
	if err != nil {
		return t, fault.Wrong("moment-unclear", "--%s: %v", flag, err)
	}
	return t, nil
}

func (a *app) printFound(hits []payload.Hit, passed int64, zone *time.Location, last *keep.Dump) error {
	list := []jsonFound{}
	t := a.newTable([]string{"Commit", "Transaction", "Table", "Inserted", "Updated", "Removed", "In"}, "Inserted",
		"Updated",
		"Removed")
	for _, h := range hits {
		id := h.ID
		if id == "" {
			id = h.Position
		}
		t.row(instant{h.Time, zone}, id, h.Table, phrase.Count(h.Touched.Inserted),
			phrase.Count(h.Touched.Updated), phrase.Count(h.Touched.Removed), h.Dump.Short())
		list = append(list, jsonFound{h.Time.UTC().Format(time.RFC3339Nano), id, h.Position, h.Table, h.Touched.Inserted,
			h.Touched.Updated, h.Touched.Removed, h.Dump.ID, h.Statements})
	}
	if len(hits) == 0 {
		return errors.Join(a.emit(list), fault.New("nothing-found", nil,
			"no transaction of %s that the keep holds is such a one", last.Name()).
			Advise("only increments from the server's log hold transactions: 'grainkeep show %s --moments' lists the spans",
				last.Name()))
	}
	a.print("%s\n", t.render())
	for _, h := range hits {
		for _, sql := range h.Statements {
			a.print("%s  %s\n", h.Time.In(zone).Format("15:04:05"), phrase.Shorten(sql, 400))
		}
	}
	if passed > 0 {
		a.say("%s before these; --all lists them, --since and --until choose.", phrase.Plural(passed, "line"))
	}
	return a.emit(list)
}
