package cli

import (
	"context"
	"os"
	"strings"
	"time"

	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/job"
	"grainkeep/internal/journal"
	"grainkeep/internal/keep"
)

// jobs puts a configuration together, with keeps that are mounted when they are used.
func (a *app) jobs(f *config.File) job.Set {
	if a.uses == nil {
		feed := &event.Feed{}
		feed.Listen(a.hear)
		a.uses = job.NewUses(feed)
	}
	return job.Of(f).With(a.uses)
}

// hear shows what is told, and writes it to the run's log and the log that --log names.
func (a *app) hear(e event.Event) {
	switch e := e.(type) {
	case event.Warning:
		a.warn(e.Code, "%s", e.Text())
	case event.Accepted:
		a.say("accepted: %s", e.Text())
	case event.Note:
		a.say("note: %s", e.Text())
	}
	if a.log != nil {
		event.ToLog(a.log)(e)
	}
	if _, isWarning := e.(event.Warning); a.run != nil && !isWarning { // warn has noted it
		a.run.Hear(e)
	}
}

// openJournal opens the journal, once. Where it cannot be used, that is told and nil given: no work depends on it.
func (a *app) openJournal(f *config.File) *journal.Journal {
	if a.journal != nil || a.unjournaled {
		return a.journal
	}
	j, aside, err := job.Of(f).Journal(a.ctx)
	if err != nil {
		a.unjournaled = true
		if f == nil { // without a configuration, nobody counts on it
			a.say("note: this run is not noted in a journal: %v", err)
		} else {
			a.warn("journal-unusable", "this run is not noted in the journal: %v", err)
		}
		return nil
	}
	a.journal = j
	if aside != "" {
		a.warn("journal-damaged", "the journal was damaged: it was put aside as %s, and a new one begun", aside)
	}
	if j.Fresh() && f != nil {
		a.rebuild(f, j)
	}
	killed, err := j.Settle(a.ctx)
	if err != nil {
		a.warn("journal-unusable", "%v", err)
	}
	for _, r := range killed {
		a.tellRun(f, j, r.ID)
		a.say("note: the %s of %s that began %s was killed", r.Command, r.Job,
			r.Started.Local().Format("2006-01-02 15:04"))
	}
	return j
}

// rebuild fills a new journal with what the keeps can tell.
func (a *app) rebuild(f *config.File, j *journal.Journal) {
	for _, name := range f.Keeps() {
		k, err := a.jobs(f).OpenKeep(a.ctx, name)
		if err != nil {
			continue // it is not there yet, or not now: whoever needs it says so
		}
		dumps, err := k.Dumps(a.ctx)
		if err == nil {
			err = j.Rebuild(a.ctx, dumps)
		}
		if err != nil {
			a.warn("journal-unusable", "the journal could not be put back from the keep %s: %v", k.Where(), err)
		}
	}
}

// startedBy is the variable that says who started this program.
const startedBy = "GRAINKEEP_STARTED_BY"

// noted does a piece of work as a run of the journal: from its beginning to what came of it.
func (a *app) noted(f *config.File, command, of string, k *keep.Keep, work func(run string) error) error {
	id := keep.NewRun()
	j := a.openJournal(f)
	if j == nil {
		return work(id)
	}
	by := os.Getenv(startedBy)
	if by == "" {
		by = "hand"
	}
	a.meter = &event.Meter{}
	run, err := j.Begin(a.ctx, journal.Run{ID: id, Command: command, Job: of, StartedBy: by}, a.meter)
	if err != nil {
		a.warn("journal-unusable", "this run is not noted in the journal: %v", err)
		return work(id)
	}
	a.run = run
	if k != nil {
		run.At(a.ctx, k.ID, k.Where())
	}
	before, worst := len(a.warnings), a.worst
	a.worst = fault.Done
	o := journal.Outcome{Result: journal.Failed, Code: "defect", Reason: "the program broke off"}
	defer func() { // also when the work panics
		a.run, a.meter = nil, nil
		if by == "hand" && fault.Class(o.Exit) == fault.Usage { // a slip of who typed it: nothing was begun
			if err := run.Drop(a.ctx); err != nil {
				a.warn("journal-unusable", "%v", err)
			}
			return
		}
		if err := run.End(a.ctx, o); err != nil {
			a.warn("journal-unusable", "%v", err)
		}
		a.tellRun(f, j, id)
		if err := j.Prune(context.WithoutCancel(a.ctx), clock.Now().Add(-job.Of(f).JournalKeeps())); err != nil {
			a.warn("journal-unusable", "%v", err)
		}
	}()
	err = work(id)
	o = a.outcome(err, len(a.warnings) > before)
	a.raise(worst)
	return err
}

// jobNamed is the job that a dump's name begins with; empty: it is none of the configuration's.
func jobNamed(f *config.File, name string) string {
	of, _, _ := strings.Cut(name, "/")
	if f == nil || isPath(name) {
		return ""
	}
	if _, ok := f.Job[of]; !ok {
		return ""
	}
	return of
}

// notedAt notes which dump, and so which job and keep, the run is about.
func (a *app) notedAt(d *keep.Dump) {
	if a.run == nil {
		return
	}
	if d.Keep != nil {
		a.run.At(a.ctx, d.Keep.ID, d.Keep.Where())
	}
	a.run.Of(a.ctx, d.JobName())
}

// outcome is how a run ended, by its error and by what was told meanwhile.
func (a *app) outcome(err error, warned bool) (o journal.Outcome) {
	if err == nil && a.told != nil {
		err = a.told
	}
	a.told = nil
	switch {
	case err != nil:
		cause := err
		if a.ctx.Err() != nil {
			cause = context.Cause(a.ctx)
		}
		f := asFault(cause)
		o = journal.Outcome{Result: journal.Failed, Code: f.Code, Reason: f.Error(), Advice: f.Do, Exit: int(f.Class)}
		switch {
		case a.ctx.Err() != nil:
			o.Result = journal.Stopped
		case f.Class == fault.Running:
			o.Result = journal.Refused
		}
	case warned:
		o.Result = journal.Warned
	default:
		o.Result = journal.Good
	}
	return o
}

// part notes what a run did to one dump or database.
func (a *app) part(p journal.Part) {
	if a.run != nil {
		a.run.Part(context.WithoutCancel(a.ctx), p)
	}
}

// failedPart is what could not be done to a database.
func failedPart(name string, err error) journal.Part {
	f := asFault(err)
	return journal.Part{Name: name, Result: journal.Failed, Code: f.Code, Reason: f.Error()}
}

// leave ends what the program holds: keeps that it mounted, the journal.
func (a *app) leave() (failed []error) {
	if a.uses != nil {
		failed = a.uses.Leave(a.ctx)
	}
	if a.journal != nil {
		if err := a.journal.Close(); err != nil {
			failed = append(failed, err)
		}
		a.journal = nil
	}
	return failed
}

// notedOf does something to one dump, as a run of the journal.
func (a *app) notedOf(command string, d *keep.Dump, work func() error) error {
	f, err := a.config()
	if err != nil {
		return err
	}
	return a.noted(f, command, d.Manifest.Job, d.Keep, func(string) error {
		err := work()
		if err == nil {
			p := dumpPart(d)
			p.Result = journal.Good
			a.part(p)
		}
		return err
	})
}

// dumpPart is a dump as the part of a run that did something else than make it.
func dumpPart(d *keep.Dump) journal.Part {
	p := journal.PartOf(d)
	p.Ended, p.Took = time.Time{}, 0
	return p
}
