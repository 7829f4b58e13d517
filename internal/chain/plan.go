package chain

import (
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

// To is the plan that ends with a dump.
func To(d *keep.Dump) (*Plan, error) {
	if err := d.Readable(); err != nil {
		return nil, err
	}
	if d.Manifest.Kind != manifest.Full {
		return nil, fault.New("kind-unknown", nil, "the dump %s is %s, which this program cannot restore yet",
			d.Name(), d.Manifest.Kind).
			Advise("use a newer grainkeep")
	}
	return &Plan{Base: d, Until: d.Manifest.Moment}, nil
}

// Last is the dump that the plan ends with.
func (p *Plan) Last() *keep.Dump {
	if n := len(p.Changes); n > 0 {
		return p.Changes[n-1]
	}
	return p.Base
}
