package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/config"
	"grainkeep/internal/drill"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/job"
	"grainkeep/internal/journal"
	"grainkeep/internal/keep"
	"grainkeep/internal/phrase"
	"grainkeep/internal/scratch"
	"grainkeep/internal/step"
)

func (a *app) drillCommand() *cobra.Command {
	var from, at, to string
	cmd := explain(&cobra.Command{
		Use: "drill JOB or JOB/DATABASE", Short: "Test that a dump restores, and record the proof",
		Args:              args(1, -1, "a dump"),
		RunE:              func(_ *cobra.Command, names []string) error { return a.drill(from, at, to, names) },
		ValidArgsFunction: a.dumpNames(&from),
	}, usage{`Restores a dump into a scratch database, reads it back, compares every row and every
object with the dump's manifest, asks the job's checks, records the proof beside
the dump, and removes the scratch database.`, [2]string{
		"grainkeep drill nightly",
		"grainkeep drill nightly/bookings --to postgres://tester@db2/"}})
	a.fromFlag(cmd, &from)
	atFlag(cmd, &at)
	cmd.Flags().StringVar(&to, "to", "",
		"make the scratch database on this `SOURCE` (else the job's drill_on; SQLite needs none)")
	a.completeOption(cmd, "to", job.Set.Sources)
	return cmd
}

type jsonDrilled struct {
	Dump  string      `json:"dump"`
	Path  string      `json:"path"`
	Proof *keep.Proof `json:"proof,omitempty"`
}

func (a *app) drill(from, at, to string, names []string) error {
	f, err := a.config()
	if err != nil {
		return err
	}
	return a.noted(f, "drill", jobNamed(f, names[0]), nil, func(run string) error {
		list, err := a.toDrill(f, from, at, names)
		if err != nil {
			return err
		}
		a.notedAt(list[0].Last())
		a.makeGood(f, f != nil && job.Of(f).Low(list[0].Last().Manifest.Job))
		return a.drillAll(f, list, to, run)
	})
}

// drillFrom is the keep whose turn it is to be drilled, of those that a job names: the one that was drilled last longest
// ago. Empty: it names none.
func (a *app) drillFrom(f *config.File, name string) (string, error) {
	of := jobNamed(f, name)
	names := f.Job[of].DrillFrom
	if len(names) == 0 {
		return "", nil
	}
	ids, last := map[string]string{}, map[string]time.Time{}
	for _, n := range names {
		k, err := a.jobs(f).OpenKeep(a.ctx, n)
		if err != nil {
			return "", err
		}
		dumps, err := k.Dumps(a.ctx)
		if err != nil {
			return "", err
		}
		ids[n] = k.ID
		for _, d := range dumps {
			for _, p := range d.Proofs { // they are copied along with dumps
				if d.MayBeOf(of, "") && p.At.After(last[p.Keep]) {
					last[p.Keep] = p.At
				}
			}
		}
	}
	turn := slices.MinFunc(names, func(x, y string) int { return last[ids[x]].Compare(last[ids[y]]) })
	a.say("From the keep %s, whose turn it is.", turn)
	return turn, nil
}

// toDrill finds the dumps that are to be drilled.
func (a *app) toDrill(f *config.File, from, at string, names []string) (list []*chain.Plan, err error) {
	for _, n := range names {
		from := from
		if from == "" && at == "" && f != nil {
			if from, err = a.drillFrom(f, n); err != nil {
				return nil, err
			}
		}
		found, err := a.plans(f, from, n, at)
		if err != nil {
			return nil, err
		}
		list = append(list, found...)
		if at == "" {
			closings, err := a.closings(found)
			if err != nil {
				return nil, err
			}
			list = append(list, closings...)
		}
	}
	all := list
	if list = drillable(list); len(list) > 0 && len(list) < len(all) {
		a.say("What belongs to the server itself (+server), and streams without a restore command, cannot be drilled.")
	}
	if len(list) == 0 {
		return nil, fault.Wrong("drill-impossible",
			"this cannot be drilled: what belongs to the server itself would change the server, and a stream needs a command "+
				"that restores").Advise("'grainkeep verify' reads its dump back")
	}
	return list, nil
}

// closings are the ends of what a server's log told up to the fulls and differentials of some plans: as long as one is not
// drilled, nothing proves that of tables whose fingerprints the log does not give.
func (a *app) closings(found []*chain.Plan) (list []*chain.Plan, err error) {
	for _, p := range found {
		links, err := a.links(p.Last())
		if err != nil {
			return nil, err
		}
		for id, d := range links {
			audits := slices.ContainsFunc(p.Dumps(), func(o *keep.Dump) bool { return o.Origin() == d.Manifest.Closes })
			if id != d.ID || !audits || d.State() != keep.Unproven {
				continue
			}
			closed, err := links.To(d)
			if err == nil {
				err = closed.Whole(a.ctx)
			}
			if err != nil {
				return nil, err
			}
			a.say("What the log told up to %s is drilled too, and must give the very rows of that.", d.Manifest.Closes[:10])
			list = append(list, closed)
		}
	}
	return list, nil
}

// drillAll drills some dumps, and then runs the steps of their job.
func (a *app) drillAll(f *config.File, list []*chain.Plan, to, run string) (err error) {
	of := list[0].Last().Manifest.Job
	facts := step.Facts{Job: of, Run: run, Result: "failed"}
	for _, p := range list {
		facts.Databases = append(facts.Databases, p.Last().Manifest.Database)
		facts.Dumps = append(facts.Dumps, p.Last().Path())
	}
	around, err := job.Of(f).AfterDrill(of)
	if err != nil {
		return err
	}
	feed, end := a.feed()
	open, err := around.Begin(a.ctx, of+"-"+run, step.AfterDrill, step.AfterDrill, facts, feed)
	end()
	if err != nil {
		return err
	}
	defer func() {
		if err == nil {
			facts.Result = "good"
		}
		if e := open.Close(a.ctx, facts, feed); e != nil {
			a.mention(fmt.Errorf("after the drill: %w", e))
		}
	}()
	out := []jsonDrilled{}
	var bad []failedDrill
	for _, plan := range list {
		d := plan.Last()
		p, err := a.drillOne(f, plan, to)
		if err != nil {
			a.part(failedPart(d.Manifest.Database, err))
			return err
		}
		a.part(drilledPart(d, p))
		if !p.Proven {
			bad = append(bad, failedDrill{d, p})
		}
		out = append(out, jsonDrilled{Dump: d.Name(), Path: d.Path(), Proof: p})
		a.result = out
	}
	if len(bad) == 0 {
		return nil
	}
	say := phrase.Plural(int64(len(list)), "dump")
	if len(list) > 1 {
		say = fmt.Sprintf("%d of %s", len(bad), say)
	}
	return fault.New("drill-failed", nil, "%s failed the drill", say).Exit(fault.ProvenBad).Advise("%s", adviceOn(bad))
}

func (a *app) drillOne(f *config.File, plan *chain.Plan, to string) (*keep.Proof, error) {
	d := plan.Last()
	a.say("%s of %s, id %s", d.Name(), phrase.Both(d.Manifest.Moment, chain.Zone(d)), d.Short())
	var on engine.Location
	if d.Manifest.Payload.SQL != nil {
		var err error
		if on, err = drillPlace(f, d, to); err != nil {
			return nil, err
		}
	}
	commands, err := job.Of(f).Stream(d.Manifest.Source.Name)
	if err != nil {
		return nil, err
	}
	checks, err := a.checksOf(f, d)
	if err != nil {
		return nil, err
	}
	ctx, cancel, err := limited(a.ctx, "drill", drillLimit(f, d))
	if err != nil {
		return nil, err
	}
	defer cancel()
	unpin, err := a.pin(d)
	if err != nil {
		return nil, err
	}
	defer unpin()
	a.sayWay(plan)
	feed, end := a.feed()
	feed.Accept(job.Of(f).Accepted(d.Manifest.Job)...)
	p, err := drill.Run(ctx, drill.Drill{Plan: plan, On: on, Checks: checks, Tool: tool, Stream: commands}, feed)
	end()
	if err != nil {
		return nil, err
	}
	if d.Keep == nil || d.Keep.ReadOnly {
		a.warn("proof-not-recorded", "the proof could not be recorded: the dump is not in a keep that can be written")
	} else if err := d.Record(a.ctx, *p); err != nil {
		a.mention(err)
	}
	a.printProof(d, p)
	return p, nil
}

func drillLimit(f *config.File, d *keep.Dump) string {
	if f == nil {
		return ""
	}
	return f.Job[d.Manifest.Job].DrillLimit
}

// drilledPart is a drill as the journal notes it.
func drilledPart(d *keep.Dump, p *keep.Proof) journal.Part {
	part := dumpPart(d)
	part.Result, part.Rows, part.Took, part.Ended = journal.Good, p.Rows, p.Took(), p.At
	if !p.Proven {
		part.Result, part.Code, part.Reason = journal.Failed, "drill-failed", strings.Join(p.Differences, "; ")
	}
	return part
}

// drillable leaves out what cannot be drilled: what belongs to the server itself, and streams without a command that
// restores.
func drillable(list []*chain.Plan) []*chain.Plan {
	return slices.DeleteFunc(slices.Clone(list), func(p *chain.Plan) bool {
		return !p.Last().Drillable()
	})
}

// checksOf are the questions of a dump's job: as the configuration in use has them, or
// else as the keep remembers them. If they are there and cannot be read, nothing is
// drilled: a proof without them would say too much.
func (a *app) checksOf(f *config.File, d *keep.Dump) ([]drill.Check, error) {
	name := d.Manifest.Job
	if f != nil {
		if _, ok := f.Job[name]; ok {
			return job.Checks(f, name), nil
		}
	}
	if d.Keep == nil {
		return nil, nil
	}
	data, err := d.Keep.Job(a.ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var kept *config.File
	if err == nil {
		kept, err = config.Parse(data, "the job "+name+" as the keep remembers it")
	}
	if err != nil {
		return nil, fault.New("checks-unreadable", err,
			"the checks of the job %s cannot be read, so nothing was drilled", name).
			Advise("name a configuration that has the job with --config; or remove the file, then the drill asks " +
				"no checks")
	}
	return job.Checks(kept, name), nil
}

// drillPlace is the source that makes the scratch database. A server is never chosen by
// default, and never by what a keep says.
func drillPlace(f *config.File, d *keep.Dump, to string) (engine.Location, error) {
	if to != "" {
		return job.Of(f).Address(to)
	}
	if d.Manifest.Source.Engine == "sqlite" {
		return engine.Location{Name: "a scratch file", Engine: "sqlite", Path: scratch.Base()}, nil
	}
	if on, named, err := job.Of(f).DrillOn(d.Manifest.Job); named {
		return on, err
	}
	return engine.Location{}, fault.Wrong("drill-unplaced", "no source is named to drill on").
		Advise("give the job drill_on, or add --to SOURCE; a scratch database is made there and removed again")
}

// comparedIn says what a drill found to be as it was dumped.
func comparedIn(d *keep.Dump, p *keep.Proof) string {
	switch {
	case d.Manifest.Payload.Tar != nil:
		return phrase.Plural(p.Rows, "entry") + " as dumped"
	case d.Manifest.Payload.Stream != nil:
		return phrase.Plural(int64(p.Objects), "fact") + " as dumped"
	}
	return fmt.Sprintf("%s in %s and %s are as dumped", phrase.Plural(p.Rows, "row"), phrase.Plural(int64(p.Tables),
		"table"),
		phrase.Plural(int64(p.Objects), "object"))
}

func (a *app) printProof(d *keep.Dump, p *keep.Proof) {
	took := phrase.Duration(p.Took())
	if p.Proven {
		a.say("  restored in %s, read back: %s", took, comparedIn(d, p))
	}
	for _, c := range p.Checks {
		word := "good"
		if !c.Good {
			word = "BAD"
		}
		a.say("  check %s: %s → %s", paint(a.stderr, stateColour(word), word), c.SQL, c.Got)
	}
	for _, w := range p.Warnings {
		a.warn("not-as-it-was", "%s", w)
	}
	state := "proven"
	if !p.Proven {
		state = "failed"
	}
	a.print("%s  %s %s %s\n", paint(a.stdout, stateColour(state), state), d.Name(), phrase.Both(d.Manifest.Moment,
		chain.Zone(d)), d.Short())
	if !p.Proven {
		a.printDifferences(d, p)
	}
}
