package cli

import (
	"fmt"
	"os"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/config"
	"grainkeep/internal/drill"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/phrase"
)

func (a *app) drillCommand() *cobra.Command {
	var from, at, to string
	cmd := &cobra.Command{
		Use: "drill JOB or JOB/DATABASE", Short: "Test that a dump restores, and record the proof",
		Long: `Restores a dump into a scratch database, reads it back, compares every row and every
object with the dump's manifest, asks the job's checks, records the proof beside
the dump, and removes the scratch database.`,
		Args: args(1, -1, "a dump"),
		RunE: func(_ *cobra.Command, names []string) error { return a.drill(from, at, to, names) },
	}
	fromFlag(cmd, &from)
	atFlag(cmd, &at)
	cmd.Flags().StringVar(&to, "to", "", "make the scratch database on this `SOURCE` (else the job's drill_on; SQLite needs none)")
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
	var list []*keep.Dump
	for _, n := range names {
		found, err := a.find(f, from, n, at)
		if err != nil {
			return err
		}
		list = append(list, found...)
	}
	if err := readable(list); err != nil {
		return err
	}
	if list = databases(list); len(list) == 0 {
		return fault.Wrong("drill-impossible", "what belongs to the server itself cannot be drilled: that would change the server it is drilled on").
			Advise("'grainkeep verify' reads its dump back")
	}
	out := []jsonDrilled{}
	bad := 0
	for _, d := range list {
		p, err := a.drillOne(f, d, to)
		if err != nil {
			return err
		}
		if !p.Proven {
			bad++
		}
		out = append(out, jsonDrilled{Dump: d.Name(), Path: d.Path, Proof: p})
		a.result = out
	}
	if bad > 0 {
		return fault.New("drill-failed", nil, "%d of %s failed the drill", bad, phrase.Plural(int64(len(list)), "dump")).
			Exit(fault.ProvenBad).Advise("this dump cannot be relied on: take a new one now, and look for the cause")
	}
	return nil
}

func (a *app) drillOne(f *config.File, d *keep.Dump, to string) (*keep.Proof, error) {
	a.say("%s of %s, id %s", phrase.OneLine(d.Name()), phrase.Both(d.Manifest.Moment, chain.Zone(d)), d.Short())
	jobs := a.jobsOf(f, d)
	on, err := drillPlace(f, jobs, d, to)
	if err != nil {
		return nil, err
	}
	var checks []drill.Check
	if jobs != nil {
		checks = jobs.Checks(d.Manifest.Job)
	}
	meter, end := a.meter()
	p, err := drill.Run(a.ctx, d, on, d.Keep, checks, tool, drill.Watcher{Warn: a.warn, Meter: meter})
	end()
	if err != nil {
		return nil, err
	}
	if d.Keep == nil || d.Keep.ReadOnly {
		a.warn("the proof could not be recorded: the dump is not in a keep that can be written")
	} else if err := d.Keep.Record(*p); err != nil {
		a.mention(err)
	}
	a.printProof(d, p)
	return p, nil
}

// databases leaves out what belongs to the server itself.
func databases(list []*keep.Dump) []*keep.Dump {
	return slices.DeleteFunc(slices.Clone(list), func(d *keep.Dump) bool { return d.Manifest.Database == engine.ServerWide })
}

// jobsOf is the configuration that holds a dump's job: the one in use, or else
// the one that the keep remembers.
func (a *app) jobsOf(f *config.File, d *keep.Dump) *config.File {
	if f != nil {
		if _, ok := f.Job[d.Manifest.Job]; ok {
			return f
		}
	}
	if d.Keep == nil {
		return nil
	}
	path := d.Keep.JobFile(d.Manifest.Job)
	data, err := os.ReadFile(path)
	if err != nil {
		return nil
	}
	kept, err := config.Parse(data, path)
	if err != nil {
		a.warn(fmt.Sprintf("the job that the keep remembers cannot be read, so its checks are not asked: %v", err))
		return nil
	}
	return kept
}

// drillPlace is the source that makes the scratch database. A server is never
// chosen by default.
func drillPlace(f, jobs *config.File, d *keep.Dump, to string) (engine.Location, error) {
	if to != "" {
		return config.Address(f, to)
	}
	if d.Manifest.Source.Engine == "sqlite" {
		return engine.Location{Name: "a scratch file", Engine: "sqlite", Path: os.TempDir()}, nil
	}
	if jobs != nil {
		if on := jobs.Job[d.Manifest.Job].DrillOn; on != "" {
			return jobs.Location(on)
		}
	}
	return engine.Location{}, fault.Wrong("drill-unplaced", "no source is named to drill on").
		Advise("give the job drill_on, or add --to SOURCE; a scratch database is made there and removed again")
}

func (a *app) printProof(d *keep.Dump, p *keep.Proof) {
	took := phrase.Duration(time.Duration(p.Seconds * float64(time.Second)))
	if p.Proven {
		a.say("  restored in %s, read back: %s in %s and %s are as dumped", took, phrase.Plural(p.Rows, "row"),
			phrase.Plural(int64(p.Tables), "table"), phrase.Plural(int64(p.Objects), "object"))
	}
	for _, c := range p.Checks {
		word := "good"
		if !c.Good {
			word = "BAD"
		}
		a.say("  check %s: %s → %s", word, phrase.OneLine(c.SQL), phrase.OneLine(c.Got))
	}
	for _, w := range p.Warnings {
		a.warn(w)
	}
	state := "proven"
	if !p.Proven {
		state = "failed"
	}
	a.print("%s  %s %s %s\n", state, phrase.OneLine(d.Name()), d.Manifest.Moment.Format("2006-01-02T15:04:05Z"), d.Short())
	for _, x := range p.Differences {
		a.print("        %s\n", x)
		if a.quiet && !a.json {
			fmt.Fprintf(a.stderr, "%s: %s\n", d.Path, x)
		}
	}
}
