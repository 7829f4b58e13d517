package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/fault"
	"grainkeep/internal/journal"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
	"grainkeep/internal/schedule"
	"grainkeep/internal/status"
	"grainkeep/internal/verify"
)

func (a *app) verifyCommand() *cobra.Command {
	var from, at string
	var due bool
	cmd := explain(&cobra.Command{
		Use: "verify [JOB or JOB/DATABASE]…", Short: "Read every byte back and check it",
		Args:              args(0, -1, ""),
		RunE:              func(_ *cobra.Command, names []string) error { return a.verify(from, at, due, names) },
		ValidArgsFunction: a.dumpNames(&from),
	}, usage{`Reads every byte of the named dumps and checks it against their manifests; without
a name, of all dumps. It proves that the files are intact; 'drill' proves that they
restore.`, [2]string{"grainkeep verify", "grainkeep verify nightly --from /mnt/usb/dumps"}})
	a.fromFlag(cmd, &from)
	atFlag(cmd, &at)
	cmd.Flags().BoolVar(&due, "due", false,
		"of each named job, all dumps that were not read back within its read_back "+
			"(30 days), the longest unread first")
	return cmd
}

// verifyKeeps looks at the keeps' own files: marker, START-HERE.txt, jobs, proofs.
func (a *app) verifyKeeps(f *config.File, from string) error {
	keeps, err := a.keeps(f, from)
	if err != nil {
		return err
	}
	for _, k := range keeps {
		found, err := k.Check(a.ctx)
		if err != nil {
			return err
		}
		for _, x := range found {
			a.warn("keep-damaged", "the keep %s: %s", k.Where(), x)
		}
	}
	return nil
}

type jsonVerified struct {
	Dump     string   `json:"dump"`
	ID       string   `json:"id,omitempty"`
	Path     string   `json:"path"`
	Intact   bool     `json:"intact"`
	Files    int      `json:"files"`
	Bytes    int64    `json:"bytes"`
	Findings []string `json:"findings,omitempty"`
	Strays   []string `json:"strays,omitempty"`
}

func (a *app) verify(from, at string, due bool, names []string) error {
	f, err := a.config()
	if err != nil {
		return err
	}
	of := ""
	if len(names) > 0 {
		of = jobNamed(f, names[0])
	}
	return a.noted(f, "verify", of, nil, func(string) error {
		list, err := a.toVerify(f, from, at, due, names)
		if err != nil {
			return err
		}
		if len(list) > 0 {
			a.notedAt(list[0])
		}
		return a.verifyAll(list)
	})
}

// toVerify finds the dumps that are to be read.
func (a *app) toVerify(f *config.File, from, at string, due bool, names []string) (list []*keep.Dump, err error) {
	if len(names) == 0 && at != "" {
		return nil, fault.Wrong("flag-wrong", "--at goes with a name: without one, every dump is read").
			Advise("name a job: 'grainkeep verify JOB --at WHEN'")
	}
	if len(names) == 0 {
		if list, err = a.everyCopy(f, from); err != nil {
			return nil, err
		}
		if err := a.verifyKeeps(f, from); err != nil {
			return nil, err
		}
		if len(list) == 0 && len(a.warnings) == 0 {
			return nil, fault.Wrong("dump-absent", "there is no dump to verify")
		}
	}
	if due && (at != "" || len(names) == 0) {
		return nil, fault.Wrong("flag-wrong", "--due goes with the names of jobs, and without --at")
	}
	for _, n := range names {
		found, err := a.find(f, from, n, at)
		if due {
			found, err = a.unread(f, from, n)
		}
		if err != nil {
			return nil, err
		}
		list = append(list, found...)
	}
	if due && len(list) == 0 {
		a.say("Every dump of it was read back within its time.")
	}
	return list, nil
}

// defaultReadBack is how often each dump is read back whose job says nothing of it.
const defaultReadBack = 30 * 24 * time.Hour

// unread gives the dumps of a job that were not read back within its time, the longest unread first.
func (a *app) unread(f *config.File, from, of string) (list []*keep.Dump, err error) {
	within := defaultReadBack
	if f != nil && f.Job[of].ReadBack != "" {
		if within, err = phrase.ParseAge(f.Job[of].ReadBack); err != nil {
			return nil, err
		}
	}
	within -= untilNextVerify(f, of) // what would be unread for too long by then is read now
	all, err := a.everyCopy(f, from)
	if err != nil {
		return nil, err
	}
	read := map[string]time.Time{}
	if j := a.openJournal(f); j != nil {
		if read, err = j.ReadBack(a.ctx); err != nil {
			return nil, err
		}
	}
	for _, d := range all {
		if d.MayBeOf(of, "") && time.Since(status.LastRead(d, read)) >= within {
			list = append(list, d)
		}
	}
	slices.SortStableFunc(list, func(x, y *keep.Dump) int {
		return status.LastRead(x, read).Compare(status.LastRead(y, read))
	})
	return list, nil
}

// untilNextVerify is how long it is until a job's dumps are read back again.
func untilNextVerify(f *config.File, of string) time.Duration {
	if f == nil {
		return 0
	}
	when, err := config.Schedules(f.Job[of].Verify)
	if err != nil || len(when) == 0 {
		return 0
	}
	now := clock.Now()
	next := schedule.Next([]schedule.Plan{{Job: of, What: schedule.Verify, When: when}}, func(string,
		schedule.What) time.Time {
		return now
	}, now,
		f.Zone(), 1)
	if len(next) == 0 {
		return 0
	}
	return next[0].At.Sub(now)
}

func (a *app) verifyAll(list []*keep.Dump) error {
	out := []jsonVerified{}
	bad := 0
	for _, d := range list {
		feed, end := a.feed()
		r, err := verify.Dump(a.ctx, d, feed)
		end()
		if a.ctx.Err() != nil {
			return err
		}
		if err != nil { // it says nothing about this dump, nor about the others
			a.mention(err)
			a.part(failedPart(d.Name(), err))
			continue
		}
		a.checkChain(d, r)
		a.part(verifiedPart(d, r))
		out = append(out, jsonVerified{Dump: d.Name(), ID: d.ID, Path: d.Path(), Intact: len(r.Findings) == 0,
			Files: r.Files, Bytes: r.Bytes,
			Findings: r.Findings, Strays: r.Strays})
		a.result = out
		a.printVerified(d, r)
		if len(r.Findings) > 0 {
			bad++
		}
	}
	if bad > 0 {
		say := phrase.Plural(int64(bad), "dump") + verb(bad)
		if len(list) > 1 {
			say = fmt.Sprintf("%d of %s", bad, phrase.Plural(int64(len(list)), "dump")) + verb(bad)
		}
		return fault.New("dump-damaged", nil, "%s damaged", say).
			Exit(fault.ProvenBad).Advise("restore from another dump, and take a new one now")
	}
	return nil
}

// checkChain adds to what was found of a dump that what it builds on is not there.
func (a *app) checkChain(d *keep.Dump, r *verify.Report) {
	if d.Keep == nil || d.Manifest == nil || d.Manifest.Kind == manifest.Full {
		return
	}
	all, err := d.Keep.Dumps(a.ctx)
	if err != nil {
		a.mention(err)
		return
	}
	if _, err := chain.Link(all).To(d); err != nil {
		r.Findings = append(r.Findings, err.Error())
	}
}

// verifiedPart is the reading of a dump as the journal notes it.
func verifiedPart(d *keep.Dump, r *verify.Report) journal.Part {
	p := journal.Part{Name: d.Name()}
	if d.Manifest != nil {
		p = dumpPart(d)
	}
	p.Result = journal.Good
	if len(r.Findings) > 0 {
		p.Result, p.Code, p.Reason = journal.Failed, "dump-damaged", strings.Join(r.Findings, "; ")
	}
	return p
}

func verb(n int) string {
	if n == 1 {
		return " is"
	}
	return " are"
}

func (a *app) printVerified(d *keep.Dump, r *verify.Report) {
	what := d.Path()
	if d.Manifest != nil {
		what = fmt.Sprintf("%s %s %s", d.Name(), phrase.Both(d.Manifest.Moment, chain.Zone(d)), d.Short())
	}
	if len(r.Findings) == 0 {
		a.print("%s   %s: %s, %s\n", paint(a.stdout, green, "intact"), what, phrase.Plural(int64(r.Files), "file"),
			phrase.Bytes(r.Bytes))
	} else {
		a.print("%s  %s\n", paint(a.stdout, red, "damaged"), what)
		for _, x := range r.Findings {
			a.print("         %s\n", x)
			if a.quiet && !a.json {
				a.tell(fmt.Sprintf("%s: %s\n", phrase.Clean(d.Path()), phrase.Clean(x)))
			}
		}
	}
	for _, s := range r.Strays {
		a.warn("stray-file", "%s holds %s, which is not part of the dump", d.Path(), s)
	}
}
