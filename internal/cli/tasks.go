package cli

import (
	"slices"
	"strings"
	"time"

	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/dump"
	"grainkeep/internal/fault"
	"grainkeep/internal/job"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
	"grainkeep/internal/schedule"
)

// dumpTask is a job to take the dumps of.
type dumpTask struct {
	name string
	only []string // of its databases; nil: all
	make func() (*dump.Job, error)
}

// dumpTasks are the jobs that the command line asks for. JOB and JOB/DATABASE of one job are one run.
func (a *app) dumpTasks(f *config.File, names []string, d dumpFlags) (tasks []*dumpTask, err error) {
	if d.from != "" || d.to != "" {
		if len(names) > 0 || d.from == "" || d.to == "" {
			return nil, fault.Wrong("flag-wrong", "--from and --to go together, and without a job").
				Advise("either 'dump JOB', or 'dump --from SOURCE --to KEEP'")
		}
		j, err := a.freeJob(f, d)
		return []*dumpTask{{name: d.job, make: func() (*dump.Job, error) { return j, err }}}, err
	}
	if len(names) == 0 {
		return nil, fault.Wrong("argument-missing", "dump needs a job").
			Advise("name one of the configuration, or give --from SOURCE --to KEEP")
	}
	if f == nil {
		if f, err = a.needConfig(); err != nil {
			return nil, err
		}
	}
	wait, err := waitOf(d)
	if err != nil {
		return nil, err
	}
	for _, n := range names {
		name, database, one := strings.Cut(n, "/")
		at := slices.IndexFunc(tasks, func(t *dumpTask) bool { return t.name == name })
		switch {
		case at < 0:
			if err := job.Of(f).Known(name); err != nil {
				return nil, err
			}
			t := &dumpTask{name: name}
			if one {
				t.only = []string{database}
			}
			t.make = func() (*dump.Job, error) {
				j, err := a.jobs(f).Dump(a.ctx, name)
				if err == nil && d.wait != "" {
					j.Wait = wait
				}
				return j, err
			}
			tasks = append(tasks, t)
		case one && tasks[at].only != nil:
			tasks[at].only = append(tasks[at].only, database)
		default:
			tasks[at].only = nil // the whole job was asked for too
		}
	}
	return tasks, nil
}

func waitOf(d dumpFlags) (time.Duration, error) {
	if d.wait == "" {
		return 0, nil
	}
	wait, err := phrase.ParseAge(d.wait)
	if err != nil {
		return 0, fault.Wrong("flag-wrong", "--wait: %v", err)
	}
	return wait, nil
}

// setKind says of which kind the dumps of a job are to be.
func (a *app) setKind(f *config.File, j *dump.Job, name string, d dumpFlags) error {
	j.Kind, j.Alone = manifest.Kind(d.kind), j.Chained && d.kind == string(manifest.Full) && !d.baseline
	j.Baseline = d.baseline
	if d.changes != "" {
		j.Changes = d.changes
	}
	switch {
	case !slices.Contains([]string{"", config.ChangesAuto, dump.FromLog, dump.Compare}, d.changes):
		return fault.Wrong("flag-wrong", "--changes is %q", d.changes).Advise("write auto, log or compare")
	case !slices.Contains([]string{"auto", "full", "differential", "incremental"}, d.kind):
		return fault.Wrong("flag-wrong", "--kind is %q", d.kind).Advise("write auto, full, differential or incremental")
	case d.baseline && d.kind != "full":
		return fault.Wrong("flag-wrong", "--new-baseline goes with --kind full")
	case d.kind != "auto":
		return nil
	case !j.Chained:
		j.Kind = manifest.Full
		return nil
	}
	plans, err := plansOf(f, []string{name})
	if err != nil {
		return err
	}
	last, err := a.lastOf(f, plans)
	if err != nil {
		return err
	}
	j.Kind = manifest.Kind(schedule.KindNow(plans, last, clock.Now(), f.Zone()).Kind())
	return nil
}

// prepareRuns makes good what killed runs left, and yields to others where all of the jobs say so.
func (a *app) prepareRuns(f *config.File, tasks []*dumpTask) {
	low := f != nil && !slices.ContainsFunc(tasks, func(t *dumpTask) bool { return !job.Of(f).Low(t.name) })
	a.makeGood(f, low)
}

// makeGood runs the steps that killed runs left undone.
func (a *app) makeGood(f *config.File, low bool) {
	if low {
		if err := job.YieldToOthers(); err != nil {
			a.warn("priority-kept", "the priority of this work could not be lowered: %v", err)
		}
	}
	feed, end := a.feed()
	defer end()
	if err := job.Of(f).MakeGood(a.ctx, feed); err != nil {
		a.warn("still-undone", "%v", err)
	}
}

// dumpTask takes the dumps of one job, as a run of the journal.
func (a *app) dumpTask(f *config.File, t *dumpTask, d dumpFlags, out *jsonDump) error {
	return a.noted(f, "dump", t.name, nil, func(run string) error {
		j, err := t.make()
		if err != nil {
			return err
		}
		j.Run, j.Tool, j.Only, j.Note = run, tool, t.only, d.note
		if err := a.setKind(f, j, t.name, d); err != nil {
			return err
		}
		if a.run != nil {
			a.run.At(a.ctx, j.Keep.ID, j.Keep.Where())
		}
		return a.dumpJob(f, j, d, out)
	})
}
