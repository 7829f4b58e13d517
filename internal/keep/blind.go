package keep

import (
	"context"
	"errors"
	"io/fs"

	"grainkeep/internal/fault"
	"grainkeep/internal/store"
)

// A keep is blind to a user who may only make files in its store. That is enough for full dumps: whoever takes the machine
// then cannot read the dumps, nor remove them. What is there is not known, so there are no leases, nothing is held against
// the dumps before, and what a killed run has sent is left to others.

// OpenFor opens the keep at a place, of which a user who may not read there says the id.
func OpenFor(ctx context.Context, place, id string) (*Keep, error) {
	k, err := Open(ctx, place)
	if id == "" {
		return k, err
	}
	if err == nil {
		if k.ID != id {
			return nil, fault.New("keep-other", nil, "the keep %s has the id %s, and %s was expected", k.Where(), k.ID, id).
				Advise("see whether the right place is mounted or named, and id in the configuration of the keep")
		}
		return k, nil
	}
	if !errors.Is(err, fs.ErrPermission) || !hexID(id) {
		return nil, err
	}
	st, e := store.Open(ctx, place)
	if e != nil {
		return nil, err
	}
	return &Keep{st: st, ID: id, blind: true}, nil
}

// Blind says that this user may only make files there.
func (k *Keep) Blind() bool { return k.blind }

// noLease is what there is instead of one where nobody can be asked.
type noLease struct{}

// Held implements store.Lease.
func (noLease) Held() error { return nil }

// Release implements store.Lease.
func (noLease) Release() error { return nil }
