package retain

import (
	"context"
	"slices"
	"sort"
	"time"

	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/phrase"
)

// Outlook is what would become of the dumps of a job.
type Outlook struct {
	Verdicts []Verdict
	Dumps    []*keep.Dump // in the order of the verdicts
	Blocked  []error      // dumps that cannot be read: of their database nothing goes
}

// Thinning is what to thin.
type Thinning struct {
	Keep     *keep.Keep
	Job      string
	Database string // empty: all
	Retain   phrase.Retain
	Zone     *time.Location
	Now      time.Time
}

// Look says what would stay and what would go. It changes nothing.
func (t Thinning) Look(ctx context.Context) (*Outlook, error) {
	all, err := t.Keep.Dumps(ctx)
	if err != nil {
		return nil, err
	}
	holds, err := t.Keep.Holds(ctx)
	if err != nil {
		return nil, err
	}
	sort.SliceStable(all, func(i,
		j int) bool {
		return all[i].Name() < all[j].Name()
	}) // within, oldest first as they were
	read, err := t.Keep.Pins(ctx)
	if err != nil {
		return nil, err
	}
	o := &Outlook{}
	var unreadable []*keep.Dump
	var items []Item
	for _, d := range all {
		switch {
		case d.Err != nil && d.MayBeOf(t.Job, t.Database):
			unreadable = append(unreadable, d)
			o.Blocked = append(o.Blocked, d.Readable())
		case d.Err == nil && d.Manifest.Job == t.Job && (t.Database == "" || d.Manifest.Database == t.Database):
			o.Dumps = append(o.Dumps, d)
			items = append(items, itemOf(d, holds, t.Now))
		}
	}
	o.Verdicts = Plan(t.Retain, t.Zone, t.Now, items)
	for i, d := range o.Dumps {
		if slices.ContainsFunc(unreadable, func(u *keep.Dump) bool { return u.MayBeOf(t.Job, d.Manifest.Database) }) {
			o.Verdicts[i].keep("a dump that may be of this database cannot be read")
		}
		if !o.Verdicts[i].Stays && read(d.ID) {
			o.Verdicts[i].keep("it is being read now")
		}
	}
	return o, nil
}

func itemOf(d *keep.Dump, holds map[string]keep.Hold, now time.Time) Item {
	it := Item{ID: d.ID, Of: d.Name(), Kind: string(d.Manifest.Kind), Base: d.Manifest.Base,
		Closes: d.Manifest.Closes != "", Moment: d.Manifest.Moment,
		Good: !d.State().Bad(), Proven: d.State() == keep.Proven}
	if h, held := holds[d.ID]; held && !h.Ended(now) {
		it.Hold = h.Why
	}
	return it
}

// Apply removes what a look says goes, the newest first: what others build on is older than they.
// It holds the job's lease meanwhile, and looks again when it has it. removed is told of each.
func (t Thinning) Apply(ctx context.Context, removed func(Verdict, *keep.Dump)) (*Outlook, error) {
	if err := t.Keep.Writes(); err != nil {
		return nil, err
	}
	lease, err := t.Keep.LockJob(ctx, t.Job)
	if err != nil {
		return nil, err
	}
	defer lease.Release()
	o, err := t.Look(ctx)
	if err != nil {
		return nil, err
	}
	order := make([]int, 0, len(o.Verdicts))
	for i, v := range o.Verdicts {
		if !v.Stays {
			order = append(order, i)
		}
	}
	sort.SliceStable(order, func(a,
		b int) bool {
		return o.Verdicts[order[a]].Moment.After(o.Verdicts[order[b]].Moment)
	})
	locked := map[string]string{} // what locked dumps build on
	for _, i := range order {
		if ctx.Err() != nil {
			return o, context.Cause(ctx)
		}
		v, d := o.Verdicts[i], o.Dumps[i]
		why, stays := locked[d.ID]
		if !stays {
			err := t.Keep.Remove(ctx, d, "thinned: "+v.Why)
			if stays = fault.HasCode(err, "object-locked"); stays {
				why = fault.Of(err).Error()
			} else if err != nil {
				return o, err
			}
		}
		if stays { // its time has not come
			o.Verdicts[i].Stays, o.Verdicts[i].Why = true, why
			locked[d.Manifest.Base] = "a dump that is locked builds on it"
			continue
		}
		removed(v, o.Dumps[i])
	}
	return o, nil
}
