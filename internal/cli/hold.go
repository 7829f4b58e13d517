package cli

import (
	"time"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/clock"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/phrase"
)

func (a *app) holdCommand() *cobra.Command {
	var from, at, why, until string
	cmd := explain(&cobra.Command{
		Use: "hold DUMP", Short: "Keep a dump, whatever the retain phrase says",
		Args: args(1, 1, "a dump"),
		RunE: func(_ *cobra.Command, names []string) error {
			return a.hold(names[0], from, at, why, until)
		},
		ValidArgsFunction: a.dumpNames(&from),
	}, usage{`Puts a dump on hold: it is not thinned and not removed, until it is released or until a
date.`, [2]string{"grainkeep hold nightly/bookings --why 'before the new release'",
		"grainkeep hold 3f2a91c0de --why audit --until 2027-03-31"}})
	a.fromFlag(cmd, &from)
	atFlag(cmd, &at)
	cmd.Flags().StringVar(&why, "why", "", "the `REASON`")
	cmd.Flags().StringVar(&until, "until", "", "the last `DATE` of the hold; left out: until it is released")
	return cmd
}

func (a *app) releaseCommand() *cobra.Command {
	var from, at string
	cmd := explain(&cobra.Command{
		Use: "release DUMP", Short: "End a dump's hold",
		Args: args(1, 1, "a dump"),
		RunE: func(_ *cobra.Command, names []string) error {
			d, err := a.heldDump(names[0], from, at)
			if err != nil {
				return err
			}
			if err := a.notedOf("release", d, func() error { return d.Keep.Release(a.ctx, d.ID) }); err != nil {
				return err
			}
			a.print("%s\n", d.ID)
			a.say("Released %s of %s.", d.Name(), phrase.Both(d.Manifest.Moment, chain.Zone(d)))
			return a.emit(map[string]string{"id": d.ID})
		},
		ValidArgsFunction: a.dumpNames(&from),
	}, usage{"Ends a dump's hold: the retain phrase decides about it again.",
		[2]string{"grainkeep release nightly/bookings", "grainkeep release 3f2a91c0de"}})
	a.fromFlag(cmd, &from)
	atFlag(cmd, &at)
	return cmd
}

// lasts says how long a hold is.
func lasts(h keep.Hold, d *keep.Dump) string {
	if h.Until.IsZero() {
		return "until it is released"
	}
	return "until " + phrase.Local(h.Until, chain.Zone(d))
}

// heldDump is the one dump that a name means, in a keep that can be written.
func (a *app) heldDump(name, from, at string) (*keep.Dump, error) {
	f, err := a.config()
	if err != nil {
		return nil, err
	}
	plans, err := a.plans(f, from, name, at)
	if err != nil {
		return nil, err
	}
	if len(plans) > 1 {
		return nil, ambiguous(plans, name)
	}
	d := plans[0].Last()
	if d.Keep == nil || d.Keep.ReadOnly {
		return nil, fault.New("keep-unwritable", nil, "%s is in no keep that can be written", d.Path())
	}
	return d, nil
}

func (a *app) hold(name, from, at, why, until string) error {
	if why == "" {
		return fault.Wrong("argument-missing", "a hold needs a reason").Advise("say it with --why: people will ask")
	}
	d, err := a.heldDump(name, from, at)
	if err != nil {
		return err
	}
	h := keep.Hold{Dump: d.ID, Since: clock.Now().UTC().Truncate(time.Second), Why: why}
	if until != "" {
		w, err := phrase.ParseWhen(until, chain.Zone(d), clock.Now())
		if err != nil {
			return fault.Wrong("moment-unclear", "%v", err)
		}
		if h.Until = w.Until.UTC(); h.Ended(clock.Now()) {
			return fault.Wrong("moment-past", "%s is in the past", until)
		}
	}
	if err := a.notedOf("hold", d, func() error { return d.Keep.Hold(a.ctx, h) }); err != nil {
		return err
	}
	a.print("%s\n", d.ID)
	a.say("%s of %s is on hold %s.", d.Name(), phrase.Both(d.Manifest.Moment, chain.Zone(d)), lasts(h, d))
	return a.emit(map[string]any{"id": d.ID, "until": h.Until})
}
