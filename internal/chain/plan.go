package chain

import (
	"slices"
	"time"

	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
)

// Plan is what a restore, a drill or a copy of a moment needs: a full, and the changes
// after it, in their order.
type Plan struct {
	Base    *keep.Dump
	Changes []*keep.Dump
	Until   time.Time // the moment that the end of the plan has
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

// Restorable fails for a plan whose changes this program cannot apply yet.
func (p *Plan) Restorable() error {
	if len(p.Changes) == 0 {
		return nil
	}
	d := p.Last()
	return fault.New("kind-unknown", nil, "the dump %s is %s, which this program cannot restore yet", d.Name(),
		d.Manifest.Kind).Advise("use a newer grainkeep")
}

// Last is the dump that the plan ends with.
func (p *Plan) Last() *keep.Dump {
	if n := len(p.Changes); n > 0 {
		return p.Changes[n-1]
	}
	return p.Base
}
