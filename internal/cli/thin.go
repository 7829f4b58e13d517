package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/fault"
	"grainkeep/internal/job"
	"grainkeep/internal/journal"
	"grainkeep/internal/keep"
	"grainkeep/internal/phrase"
	"grainkeep/internal/retain"
)

type thinFlags struct {
	from, retain string
	apply        bool
}

func (a *app) thinCommand() *cobra.Command {
	var t thinFlags
	cmd := explain(&cobra.Command{
		Use: "thin JOB or JOB/DATABASE", Short: "Show which dumps stay, which go and why; remove those",
		Args:              args(1, 1, "a job"),
		RunE:              func(_ *cobra.Command, names []string) error { return a.thin(names[0], t) },
		ValidArgsFunction: a.dumpNames(&t.from),
	}, usage{`Shows each dump of a job with the clause of its retain phrase that keeps it, or the
reason why it goes. With --apply it removes those that go. Only good dumps count: a
failing job removes nothing. The newest good dump, the newest proven one and those
on hold always stay.`, [2]string{"grainkeep thin nightly",
		"grainkeep thin nightly --retain 'newest 5 fulls, one a week for 8 weeks' --apply"}})
	a.fromFlag(cmd, &t.from)
	cmd.Flags().StringVar(&t.retain, "retain", "",
		"another `PHRASE` than the job's: newest 5 fulls, everything for 3 days, "+
			"one a day for 14 days")
	cmd.Flags().BoolVar(&t.apply, "apply", false, "remove what goes")
	return cmd
}

type jsonThinned struct {
	Dump  string `json:"dump"`
	ID    string `json:"id"`
	Path  string `json:"path"`
	Bytes int64  `json:"bytes"`
	Stays bool   `json:"stays"`
	Why   string `json:"why"`
	Gone  bool   `json:"removed"`
}

func (a *app) thin(name string, flags thinFlags) error {
	f, err := a.config()
	if err != nil {
		return err
	}
	of, database, _ := strings.Cut(name, "/")
	text := flags.retain
	if text == "" && f != nil {
		text = f.Job[of].Retain
		if k, configured := f.Keep[flags.from]; configured && flags.from != f.Job[of].Keep {
			text = k.Retain // copies have their own phrase, or stay
		}
	}
	r, err := phrase.ParseRetain(text)
	if err != nil {
		return fault.Wrong("retain-unclear", "%v", err)
	}
	if len(r.Clauses) == 0 {
		return fault.Wrong("retain-absent", "nothing says which dumps of %s to keep, so all stay", of).
			Advise("give the job, or the keep that it is copied to, a retain phrase, or say one here: --retain 'newest 5 fulls, " +
				"one a day for 14 days'")
	}
	keeps, err := a.keepsOf(f, flags.from, of)
	if err != nil {
		return err
	}
	a.say("%s keeps %s.", of, strings.Join(r.Sentences(), "; "))
	list := []jsonThinned{}
	for _, k := range keeps {
		t := retain.Thinning{Keep: k, Job: of, Database: database, Retain: r, Zone: zoneOf(f), Now: clock.Now()}
		work := func(string) error {
			part, err := a.thinOne(t, flags.apply)
			list = append(list, part...)
			a.result = list
			return err
		}
		if flags.apply {
			err = a.noted(f, "thin", of, k, work)
		} else {
			err = work("")
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// keepsOf are the keeps that a job's dumps may be in: the one that is named, or the job's.
func (a *app) keepsOf(f *config.File, from, of string) ([]*keep.Keep, error) {
	if from == "" && f != nil {
		if err := job.Of(f).Known(of); err != nil {
			return nil, err
		}
		k, err := a.jobs(f).OpenKeep(a.ctx, f.Job[of].Keep)
		return []*keep.Keep{k}, err
	}
	return a.keeps(f, from)
}

// zoneOf is the zone of the jobs; without a configuration, the one that a dump without one has.
func zoneOf(f *config.File) *time.Location {
	if f != nil {
		return f.Zone()
	}
	none, err := config.Parse(nil, config.FileName)
	if err != nil { // this machine's zone has no name
		return time.Local
	}
	return none.Zone()
}

// thinOne shows what becomes of the dumps in a keep, and does it when told to.
func (a *app) thinOne(t retain.Thinning, apply bool) (list []jsonThinned, err error) {
	gone := map[string]bool{}
	var o *retain.Outlook
	if apply {
		o, err = t.Apply(a.ctx, func(v retain.Verdict, d *keep.Dump) {
			gone[v.ID] = true
			a.part(removedPart(d, v.Why))
		})
	} else {
		o, err = t.Look(a.ctx)
	}
	if o == nil {
		return nil, err
	}
	for _, b := range o.Blocked {
		a.warn("dump-unreadable", "%v", b)
	}
	table := a.newTable([]string{"Dump", "Moment", "Age", "Kind", "Size", "", "Why"}, "Size").without("Kind", "Age", "Size").
		words("Why")
	var going, freed int64
	shown := &thinRows{a: a, t: table, now: t.Now}
	for i, v := range o.Verdicts {
		d := o.Dumps[i]
		if !v.Stays {
			going, freed = going+1, freed+d.Manifest.StoredBytes
		}
		shown.add(v, d)
		list = append(list, jsonThinned{Dump: d.Name(), ID: v.ID, Path: d.Path(), Bytes: d.Manifest.StoredBytes,
			Stays: v.Stays,
			Why:   v.Why, Gone: gone[v.ID]})
	}
	shown.flush()
	if len(list) == 0 {
		a.say("There is no dump of it in %s.", t.Keep.Where())
		return list, err
	}
	a.print("%s\n", table.render())
	say := fmt.Sprintf("%s of %s", phrase.Count(going), phrase.Plural(int64(len(list)), "dump"))
	switch {
	case apply:
		a.say("Removed %d of %s, %s in all.", len(gone), phrase.Plural(int64(len(list)), "dump"), phrase.Bytes(freed))
	case going > 0:
		a.say("%s would go, %s in all. Nothing was removed: --apply does it.", say, phrase.Bytes(freed))
	default:
		a.say("All stay.")
	}
	return list, err
}

// thinRows shows dumps line by line; of many in a row that go for the same reason, one line for all.
type thinRows struct {
	a     *app
	t     *lined
	now   time.Time
	last  string // name that was shown
	going []retain.Verdict
	dumps []*keep.Dump // of those
}

// manyGo is how many that go in a row are shown as one.
const manyGo = 6

func (r *thinRows) add(v retain.Verdict, d *keep.Dump) {
	if n := len(r.going); n > 0 && (v.Stays || r.dumps[n-1].Name() != d.Name() || r.going[n-1].Why != v.Why) {
		r.flush()
	}
	if v.Stays {
		r.one(v, d)
		return
	}
	r.going, r.dumps = append(r.going, v), append(r.dumps, d)
}

func (r *thinRows) flush() {
	n := len(r.going)
	if n < manyGo {
		for i, v := range r.going {
			r.one(v, r.dumps[i])
		}
	} else {
		var bytes int64
		for _, d := range r.dumps {
			bytes += d.Manifest.StoredBytes
		}
		first, last := r.going[0], r.going[n-1]
		r.row(r.dumps[0], first, phrase.Bytes(bytes), "go", phrase.Plural(int64(n), "dump")+" until "+
			phrase.Local(last.Moment, chain.Zone(r.dumps[n-1]))+": "+first.Why)
	}
	r.going, r.dumps = r.going[:0], r.dumps[:0]
}

func (r *thinRows) one(v retain.Verdict, d *keep.Dump) {
	r.row(d, v, phrase.Bytes(d.Manifest.StoredBytes), map[bool]string{true: "stays", false: "goes"}[v.Stays], v.Why)
}

func (r *thinRows) row(d *keep.Dump, v retain.Verdict, size, word, why string) {
	name := d.Name()
	if name == r.last {
		name = ""
	}
	r.last = d.Name()
	c := green
	if !v.Stays {
		c = yellow
	}
	r.t.row(name, instant{v.Moment, chain.Zone(d)}, phrase.Ago(r.now.Sub(v.Moment)), d.Manifest.KindWord(), size,
		paint(r.a.stdout, c, word), why)
}

// removedPart is the removal of a dump as the journal notes it.
func removedPart(d *keep.Dump, why string) journal.Part {
	p := dumpPart(d)
	p.Result, p.Reason = journal.Good, why
	return p
}

// thinAfter thins a job's dumps after a good run, where the job says so.
func (a *app) thinAfter(f *config.File, of string, k *keep.Keep) {
	if f != nil && f.Job[of].Thin == config.AfterGoodDump {
		a.thinBy(f, of, k, f.Job[of].Retain)
	}
}

// thinBy thins a job's dumps in a keep by a phrase.
func (a *app) thinBy(f *config.File, of string, k *keep.Keep, text string) {
	r, err := phrase.ParseRetain(text)
	if err == nil {
		t := retain.Thinning{Keep: k, Job: of, Retain: r, Zone: f.Zone(), Now: clock.Now()}
		_, err = t.Apply(a.ctx, func(v retain.Verdict, d *keep.Dump) {
			a.part(removedPart(d, v.Why))
			a.say("  removed %s of %s, %s: %s", d.Name(), phrase.Both(v.Moment, chain.Zone(d)),
				phrase.Bytes(d.Manifest.StoredBytes),
				v.Why)
		})
	}
	if err != nil {
		a.mention(fmt.Errorf("the dumps are there, but older ones were not thinned: %w", err))
	}
}
