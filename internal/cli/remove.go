package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/clock"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/phrase"
)

func (a *app) removeCommand() *cobra.Command {
	var from, why string
	cmd := explain(&cobra.Command{
		Use: "remove ID or PATH", Short: "Remove one dump, and record that",
		Args:              args(1, 1, "the id or the path of a dump"),
		RunE:              func(_ *cobra.Command, names []string) error { return a.remove(names[0], from, why) },
		ValidArgsFunction: a.dumpNames(&from),
	}, usage{`Removes one dump, named by its id or its path, and records that in its keep. For a
dump that is gone already, it notes that nobody need look for it any more.`, [2]string{
		"grainkeep remove 3f2a91c0de",
		"grainkeep remove 3f2a91c0de --why 'taken by mistake'"}})
	a.fromFlag(cmd, &from)
	cmd.Flags().StringVar(&why, "why", "", "the `REASON`, for the record")
	return cmd
}

func (a *app) remove(name, from, why string) error {
	f, err := a.config()
	if err != nil {
		return err
	}
	if isPath(name) {
		d, err := keep.DumpAt(a.ctx, name, a.jobs(f).Settle)
		if err != nil {
			return err
		}
		return a.removeOne(d, why)
	}
	keeps, err := a.keeps(f, from)
	if err != nil {
		return err
	}
	if len(name) < 4 || strings.Trim(name, "0123456789abcdef") != "" {
		return fault.Wrong("id-unclear", "%q is not an id",
			name).Advise("'grainkeep list' shows the ids; at least four digits are needed")
	}
	for _, k := range keeps {
		dumps, err := k.Dumps(a.ctx)
		if err != nil {
			return err
		}
		gone, err := k.Audit(a.ctx, dumps)
		if err != nil {
			return err
		}
		var hits []*keep.Dump
		for _, d := range dumps {
			if strings.HasPrefix(d.ID, name) {
				hits = append(hits, d)
			}
		}
		var missing []keep.Placed
		for _, p := range gone.Missing {
			if strings.HasPrefix(p.ID, name) {
				missing = append(missing, p)
			}
		}
		switch {
		case len(hits)+len(missing) > 1:
			return fault.Wrong("name-ambiguous", "the id %s means several dumps", name).Advise("write more of it")
		case len(hits) == 1:
			return a.removeOne(hits[0], why)
		case len(missing) == 1:
			return a.forget(k, missing[0], why)
		}
	}
	return fault.Wrong("dump-absent", "there is no dump %s", name).Advise("'grainkeep list' shows the ids")
}

func (a *app) forget(k *keep.Keep, p keep.Placed, why string) error {
	job, _, _ := strings.Cut(p.Path, "/")
	if err := k.Forget(a.ctx, job, p, why); err != nil {
		return err
	}
	a.print("%s\n", p.ID)
	a.say("The dump was gone already; that is recorded now.")
	return a.emit(map[string]any{"id": p.ID, "path": p.Path, "was_gone": true})
}

func (a *app) removeOne(d *keep.Dump, why string) error {
	if err := d.Readable(); err != nil {
		return err
	}
	if d.Keep == nil {
		return fault.Wrong("dump-foreign", "%s is in no keep",
			d.Path()).Advise("remove the folder yourself; no keep would know of it")
	}
	holds, err := d.Keep.Holds(a.ctx)
	if err != nil {
		return err
	}
	if h, held := holds[d.ID]; held && !h.Ended(clock.Now()) {
		return fault.New("dump-held", nil, "the dump %s is on hold: %s", d.Short(), h.Why).
			Advise("'grainkeep release %s' ends that", d.Short())
	}
	all, err := d.Keep.Dumps(a.ctx)
	if err != nil {
		return err
	}
	for _, o := range all {
		if o.Manifest != nil && o.Manifest.Base == d.ID {
			return fault.New("dump-needed", nil, "the dump %s builds on %s", o.Short(), d.Short()).
				Advise("remove that one first; nothing is left that could not be restored")
		}
	}
	read, err := d.Keep.Pins(a.ctx)
	if err != nil {
		return err
	}
	if read(d.ID) {
		return fault.New("dump-in-use", nil, "the dump %s is being drilled or restored now", d.Short()).
			Advise("wait until that has ended")
	}
	if err := a.notedOf("remove", d, func() error { return d.Keep.Remove(a.ctx, d, why) }); err != nil {
		return err
	}
	a.print("%s\n", d.ID)
	a.say("Removed %s of %s, %s.", d.Name(), phrase.Both(d.Manifest.Moment, chain.Zone(d)),
		phrase.Bytes(d.Manifest.StoredBytes))
	return a.emit(map[string]any{"id": d.ID, "path": d.Path(), "was_gone": false})
}
