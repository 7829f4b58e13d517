package cli

import (
	"errors"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/job"
	"grainkeep/internal/journal"
	"grainkeep/internal/keep"
	"grainkeep/internal/mask"
	"grainkeep/internal/phrase"
	"grainkeep/internal/restore"
	"grainkeep/internal/step"
)

func (a *app) refreshCommand() *cobra.Command {
	var at string
	cmd := explain(&cobra.Command{
		Use: "refresh NAME", Short: "Make a test or training database anew, from the newest proven dump",
		Args: args(1, 1, "the name of a refresh"),
		RunE: func(_ *cobra.Command, names []string) error { return a.refresh(names[0], at) },
	}, usage{`Makes a database anew as [refresh.NAME] of the configuration says: from the newest dump that a drill
has proven, restored beside the one that is there, changed by its SQL, and only then put in its
place. The one before goes, or stays aside. With 'when', 'schedule serve' does it.`, [2]string{
		"grainkeep refresh training", "grainkeep refresh training --at '2 days'"}})
	atFlag(cmd, &at)
	return cmd
}

func (a *app) refresh(name, at string) error {
	f, err := a.needConfig()
	if err != nil {
		return err
	}
	r, ok := f.Refresh[name]
	if !ok {
		return fault.Wrong("refresh-unknown", "there is no refresh %q", name).Advise("there are: %s", strings.Join(f.Refreshes(), ", "))
	}
	plan, err := a.toRefresh(f, r, at)
	if err != nil {
		return err
	}
	task, err := a.restoreTask(f, plan, restoreFlags{to: r.To, as: r.As, replace: true, disconnect: r.Disconnect,
		readOnly: r.ReadOnly, owner: r.Owner, roles: r.WithRoles, owners: ownersOf(r)})
	if err != nil {
		return err
	}
	task.Options.After = r.SQL
	if task.Options.Masks, err = job.Of(f).Masks(name); err != nil {
		return err
	}
	a.makeGood(f, false)
	return a.noted(f, "refresh", name, plan.Last().Keep, func(run string) error {
		return a.refreshBetween(f, name, run, task)
	})
}

func ownersOf(r config.Refresh) string {
	if r.Owners == "" {
		return string(restore.Kept)
	}
	return r.Owners
}

// toRefresh is the plan of the dump that a refresh takes.
func (a *app) toRefresh(f *config.File, r config.Refresh, at string) (*chain.Plan, error) {
	all, err := a.dumps(f, r.From)
	if err != nil {
		return nil, err
	}
	of := all
	if !r.Unproven && at == "" {
		of = slices.DeleteFunc(slices.Clone(all), func(d *keep.Dump) bool {
			return d.Manifest != nil && d.Name() == r.Dump && d.State() != keep.Proven
		})
		if !slices.ContainsFunc(of, func(d *keep.Dump) bool { return d.Manifest != nil && d.Name() == r.Dump }) {
			return nil, fault.New("dump-unproven", nil, "no dump of %s is proven", r.Dump).
				Advise("drill one: 'grainkeep drill %s'; or say unproven = true", r.Dump)
		}
	}
	found, err := chain.Find(of, r.Dump, at, clock.Now())
	if err != nil {
		return nil, err
	}
	p, err := chain.Link(all).To(found[0])
	if err == nil {
		err = p.Whole(a.ctx)
	}
	return p, err
}

// refreshBetween refreshes, between the steps around it.
func (a *app) refreshBetween(f *config.File, name, run string, task restore.Task) (err error) {
	around, err := job.Of(f).AroundRefresh(name)
	if err != nil {
		return err
	}
	facts := step.Facts{Job: name, Run: run, Result: "failed", Target: task.Options.Name, Dumps: []string{task.Plan.Last().Path()}}
	feed, end := a.feed()
	open, err := around.Begin(a.ctx, "refresh-"+name+"-"+run, step.Before, step.After, facts, feed)
	end()
	if err != nil {
		return err
	}
	defer func() {
		if err == nil {
			facts.Result = "good"
		}
		err = errors.Join(err, open.Close(a.ctx, facts, feed))
	}()
	return a.refreshNow(f.Refresh[name], task)
}

// unmasked tells what was masked, and what looks as if it should have been.
func (a *app) unmasked(m *mask.Set) {
	if list := m.Masked(); len(list) > 0 {
		a.say("  masked %s: %s", phrase.Plural(int64(len(list)), "column"), strings.Join(list, ", "))
	}
	for _, l := range m.Looks() {
		if len(m.Masked()) == 0 {
			a.say("  %s, and is as it was dumped", l)
			continue
		}
		a.warn("column-unmasked", "%s, and no mask means it: give it one, or say that it is \"clear\"", l)
	}
}

// refreshNow restores, and removes the database before.
func (a *app) refreshNow(r config.Refresh, task restore.Task) error {
	unpin, err := a.pin(task.Plan.Last())
	if err != nil {
		return err
	}
	defer unpin()
	ctx, cancel, err := limited(a.ctx, "refresh", r.Limit)
	if err != nil {
		return err
	}
	defer cancel()
	a.sayMoment(task.Plan)
	feed, end := a.feed()
	out, err := restore.Run(ctx, task.Plan, task.To, task.Options, feed)
	end()
	if err != nil {
		return diskFull(err)
	}
	a.result = a.restored(task, out)
	p := dumpPart(task.Plan.Last())
	p.Result, p.Rows, p.Took, p.Path = journal.Good, out.Rows, out.Took, out.Name
	a.part(p)
	a.notAsItWas(task, out, false)
	a.unmasked(task.Options.Masks)
	if out.Aside == "" || r.KeepOld {
		return nil
	}
	src, err := engine.Open(a.ctx, task.To)
	if err != nil {
		return err
	}
	defer src.Close()
	if err := src.(engine.Dropper).Drop(a.ctx, out.Aside); err != nil {
		return fault.New("aside-left", err, "the database is made anew, and the one before, %s, could not be removed", out.Aside)
	}
	a.say("  removed the one before, of %s", phrase.Clean(r.As))
	return nil
}
