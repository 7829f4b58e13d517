package cli

import (
	"slices"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/clock"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/phrase"
	"grainkeep/internal/seal"
	"grainkeep/internal/transfer"
)

func (a *app) resealCommand() *cobra.Command {
	var from, at string
	var all, drop bool
	cmd := explain(&cobra.Command{
		Use: "reseal [JOB/DATABASE]", Short: "Give sealed dumps to the recipients that their keep names now",
		Args: args(0, 1, ""),
		RunE: func(_ *cobra.Command, names []string) error {
			name := append(names, "")[0]
			if (name == "") == !all || all && at != "" {
				return fault.Wrong("argument-missing", "reseal needs a job, a database of one, or --all").
					Advise("'grainkeep list' shows what there is")
			}
			return a.reseal(name, from, at, drop)
		},
		ValidArgsFunction: a.dumpNames(&from),
	}, usage{`Seals the newest dump of a database, or of all databases of a job, or with --all every dump of
the keep anew, with all that they build on: for the recipients of 'seal' in the keep's
configuration. It takes a key that opens them. The data is neither opened nor written anew in
other words: each dump's own key is sealed again, so whoever has seen that key can still open
both. The dumps that it makes are new ones, unproven until a drill; the old ones stay, unless
--drop-old removes them.`, [2]string{
		"grainkeep reseal --all --from vault --key office.key",
		"grainkeep reseal nightly/bookings --from vault --key office.key --drop-old"}})
	cmd.Flags().StringVar(&from, "from", "", "the `KEEP`, by its name in the configuration")
	atFlag(cmd, &at)
	cmd.Flags().BoolVar(&all, "all", false, "every dump of the keep")
	cmd.Flags().BoolVar(&drop, "drop-old", false, "remove the dumps that were sealed anew, once the new ones are read back")
	return cmd
}

func (a *app) reseal(name, from, at string, drop bool) error {
	f, err := a.needConfig()
	if err != nil {
		return err
	}
	if from == "" {
		return fault.Wrong("flag-missing", "reseal needs --from").Advise("name the keep in which dumps are to be sealed anew")
	}
	k, err := a.jobs(f).OpenKeep(a.ctx, from)
	if err != nil {
		return err
	}
	if k.Seal == nil {
		return fault.Wrong("seal-absent", "the keep %s names no recipients", from).Advise("say for whom: seal in [keep.%s]", from)
	}
	to, err := k.Seal()
	if err != nil {
		return err
	}
	all, err := k.Dumps(a.ctx)
	if err != nil {
		return err
	}
	list, err := toReseal(all, name, at, seal.Names(to))
	if err != nil {
		return err
	}
	if len(list) == 0 {
		a.say("Nothing to do: every sealed dump that is meant is sealed for %s.", seal.Names(to))
		return a.emit([]jsonCopied{})
	}
	return a.noted(f, "reseal", list[0].Manifest.Job, k, func(string) error {
		if err := a.resealAll(list, k, drop); err != nil {
			return err
		}
		return a.resealJobs(list, k, to)
	})
}

// toReseal lists the sealed dumps that a name means, with all that they build on, bases first, and without those that are
// for the recipients already.
func toReseal(all []*keep.Dump, name, at string, names []string) (list []*keep.Dump, err error) {
	wanted := all
	if name != "" {
		if wanted, err = chain.Find(all, name, at, clock.Now()); err != nil {
			return nil, err
		}
	}
	links := chain.Link(all)
	have := map[string]bool{} // what there is for them already
	for _, d := range all {
		if d.Resealed(names) {
			have[d.Origin()] = true
		}
	}
	for _, d := range wanted {
		if d.Manifest == nil || d.Manifest.Seal == nil {
			continue
		}
		p, err := links.To(d)
		if err != nil {
			return nil, err
		}
		for _, x := range p.Dumps() {
			if x.Manifest.Seal != nil && !have[x.Origin()] {
				have[x.Origin()] = true
				list = append(list, x)
			}
		}
	}
	return list, nil
}

func (a *app) resealAll(list []*keep.Dump, k *keep.Keep, drop bool) error {
	copied := []jsonCopied{}
	anew := map[string]bool{}
	feed, end := a.feed(func(e event.Event) {
		if x, is := e.(transfer.Arrived); is {
			anew[x.Origin()] = true
			a.print("%s\n", x.Path())
			a.say("  %s: sealed anew, %s, id %s", x.Name(), phrase.Bytes(x.Manifest.StoredBytes), x.Short())
			copied = append(copied, jsonCopied{x.Name(), x.ID, x.Path(), x.Manifest.StoredBytes})
			a.part(dumpPart(x.Dump))
		}
	})
	_, failed, err := transfer.Run(a.ctx, list, k, transfer.Options{Reseal: true}, feed)
	end()
	a.result = copied
	for _, x := range failed {
		a.mention(x.Err)
		a.part(failedPart(x.Manifest.Database, x.Err))
	}
	if err != nil || !drop {
		return err
	}
	return a.dropOld(list, k, anew)
}

// resealJobs gives the configurations of jobs to the recipients too.
func (a *app) resealJobs(list []*keep.Dump, k *keep.Keep, to []seal.Recipient) error {
	done := map[string]bool{}
	for _, d := range list {
		if of := d.Manifest.Job; !done[of] {
			done[of] = true
			if err := k.ResealJob(a.ctx, of, to); err != nil {
				return err
			}
		}
	}
	return nil
}

// dropOld removes what was sealed anew, where nothing builds on it any more.
func (a *app) dropOld(list []*keep.Dump, k *keep.Keep, anew map[string]bool) error {
	all, err := k.Dumps(a.ctx)
	if err != nil {
		return err
	}
	holds, err := k.Holds(a.ctx)
	if err != nil {
		return err
	}
	needed := map[string]bool{}
	old := map[string]bool{}
	for _, d := range list {
		old[d.ID] = anew[d.Origin()]
	}
	for _, d := range slices.Backward(all) { // what builds on others is newer
		if d.Manifest == nil {
			continue
		}
		h, held := holds[d.ID]
		if held = held && !h.Ended(clock.Now()); held && old[d.ID] {
			a.warn("dump-held", "the dump %s of %s is on hold, and stays: %s", d.Short(), d.Name(), h.Why)
		}
		if !old[d.ID] || needed[d.ID] || held {
			needed[d.Manifest.Base] = true
			continue
		}
		if err := k.Remove(a.ctx, d, "it was sealed anew"); err != nil {
			return err
		}
		a.say("  removed %s, as it was sealed before", d.Short())
	}
	return nil
}
