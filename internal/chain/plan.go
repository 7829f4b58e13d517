package chain

import (
	"context"
	"slices"
	"time"

	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/rows"
)

// Plan is what a restore, a drill or a copy of a moment needs: a full, and the changes
// after it, in their order.
type Plan struct {
	Base    *keep.Dump
	Changes []*keep.Dump
	Until   time.Time // the moment that the end of the plan has
	Before  string    // the transaction before which it was to stop; empty: none was named
	Stop    *Stop     // where it stops inside its last dump; nil: at its end
	Asked   time.Time // the moment that was asked for, where a log tells of it; else zero
}

// Links are the dumps of keeps by their ids: what a dump builds on is found by them.
type Links map[string]*keep.Dump

// Link gives the links of some dumps. Those that cannot be read have no id: what builds on one is broken.
func Link(dumps []*keep.Dump) Links {
	l := make(Links, len(dumps))
	for _, d := range dumps {
		if d.Manifest != nil {
			l[d.ID] = d
		}
	}
	for _, d := range dumps { // where a dump itself is not there, a sealed copy of it serves as well
		if d.Manifest != nil && l[d.Origin()] == nil {
			l[d.Origin()] = d
		}
	}
	return l
}

// To is the plan that ends with a dump: it and all that it builds on, from the full on. A link that is missing, or
// that is of something else, is an error that names it.
func (l Links) To(d *keep.Dump) (*Plan, error) {
	if err := d.Readable(); err != nil {
		return nil, err
	}
	p := &Plan{Until: d.Manifest.Moment}
	at := d
	for at.Manifest.Kind != manifest.Full {
		p.Changes = append(p.Changes, at)
		base := l[at.Manifest.Base]
		switch {
		case base == nil:
			return nil, broken(d, at, "which is not there, or cannot be read")
		case base.Manifest.Job != at.Manifest.Job || base.Manifest.Database != at.Manifest.Database:
			return nil, broken(d, at, "which is one of "+base.Name())
		case at.Manifest.Kind == manifest.Differential && base.Manifest.Kind != manifest.Full:
			return nil, broken(d, at, "which is no full")
		case len(p.Changes) > len(l): // an id is a digest of what names the base: this cannot be
			return nil, broken(d, at, "in a circle")
		}
		at = base
	}
	p.Base = at
	slices.Reverse(p.Changes)
	return p, nil
}

func broken(d, at *keep.Dump, why string) error {
	base := at.Manifest.Base
	return fault.New("chain-broken", nil, "the dump %s of %s does not restore any more: %s builds on %s, %s", d.Short(),
		d.Name(), at.Short(), base[:min(10, len(base))], why).Exit(fault.ProvenBad).
		Advise("look for that dump, in another keep too; else take a new full")
}

// Dumps are all that the plan needs, in their order.
func (p *Plan) Dumps() []*keep.Dump { return append([]*keep.Dump{p.Base}, p.Changes...) }

// Around gives the chain that a dump is of, as far as it is there: what it builds on, from the full on, the dump
// itself, and what builds on it, by the moments.
func (l Links) Around(d *keep.Dump) (list []*keep.Dump) {
	seen := map[string]bool{}
	for at := d; at != nil && !seen[at.ID]; at = l[at.Manifest.Base] {
		seen[at.ID] = true
		list = append(list, at)
	}
	slices.Reverse(list)
	var after []*keep.Dump
	for grown := true; grown; {
		grown = false
		for _, x := range l {
			if !seen[x.ID] && x.Manifest.Base != "" && seen[x.Manifest.Base] && (x.Manifest.Base == d.ID ||
				slices.Contains(after, l[x.Manifest.Base])) {
				seen[x.ID], grown = true, true
				after = append(after, x)
			}
		}
	}
	slices.SortStableFunc(after, func(a, b *keep.Dump) int { return a.Manifest.Moment.Compare(b.Manifest.Moment) })
	return append(list, after...)
}

// manyManifests are so many that they are read side by side.
const manyManifests = 4

// Whole reads the manifests of all its dumps whole.
func (p *Plan) Whole(ctx context.Context) error {
	brief := slices.DeleteFunc(p.Dumps(), func(d *keep.Dump) bool {
		return d.Manifest == nil || !d.Manifest.IsBrief() && !d.Manifest.Locked()
	})
	if len(brief) == 0 {
		return nil
	}
	return rows.InParallel(ctx, manyManifests, brief, func(ctx context.Context,
		next func() (*keep.Dump, bool)) error {
		for d, ok := next(); ok; d, ok = next() {
			if err := d.Whole(ctx); err != nil {
				return err
			}
		}
		return nil
	})
}

// Bad is a dump of the plan that is not to be relied on, or nil: the last, or one on which it builds and whose changes an
// audit found to be wrong.
func (p *Plan) Bad() *keep.Dump {
	if d := p.Last(); d.State().Bad() {
		return d
	}
	if i := slices.IndexFunc(p.Changes, func(d *keep.Dump) bool { return d.State() == keep.Doubtful }); i >= 0 {
		return p.Changes[i]
	}
	return nil
}

// Last is the dump that the plan ends with.
func (p *Plan) Last() *keep.Dump {
	if n := len(p.Changes); n > 0 {
		return p.Changes[n-1]
	}
	return p.Base
}
