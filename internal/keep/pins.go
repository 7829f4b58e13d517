package keep

import (
	"context"
	"errors"
	"io/fs"
	"strings"

	"grainkeep/internal/store"
)

// A pin keeps a dump from being removed while it is read. It is a lease in the keep's hidden folder, so it ends
// with its process.

const pinStart = "pin-"

// pinned is the part of a dump's id that a pin's name has.
func pinned(id string) string { return id[:min(20, len(id))] }

// Pin keeps a dump from being removed until it is released. In a keep that cannot be written, where nobody removes
// anything, there is none: nil.
func (k *Keep) Pin(ctx context.Context, id string) (store.Lease, error) {
	st, ok := k.st.(store.Leaser)
	if !ok || k.ReadOnly {
		return nil, nil
	}
	_, err := k.Pins(ctx) // those of processes that are gone go
	var l store.Lease
	if err == nil {
		if l, err = take(ctx, st, workName+"/"+pinStart+pinned(id)+"-"+NewRun()+leaseEnding); err != nil {
			err = k.unwritable(err)
		}
	}
	if _, knows := k.st.(interface{ ReadOnly() bool }); err != nil && !knows && ctx.Err() == nil {
		return nil, nil //nolint:nilerr // perhaps it cannot be written from here, which only trying tells
	}
	return l, err
}

// Pins says which dumps are pinned.
func (k *Keep) Pins(ctx context.Context) (func(id string) bool, error) {
	none := func(string) bool { return false }
	st, ok := k.st.(store.Leaser)
	if !ok || k.ReadOnly {
		return none, nil
	}
	var names []string
	err := k.st.List(ctx, workName, func(e store.Entry) error {
		if strings.HasPrefix(e.Name, workName+"/"+pinStart) {
			names = append(names, e.Name)
		}
		return nil
	})
	if errors.Is(err, fs.ErrNotExist) {
		return none, nil
	}
	if err != nil {
		return none, k.unwritable(err)
	}
	ids := map[string]bool{}
	for _, n := range names {
		l, err := st.Lease(ctx, n)
		var held *store.HeldError
		switch {
		case errors.As(err, &held):
			id, _, _ := strings.Cut(strings.TrimPrefix(n, workName+"/"+pinStart), "-")
			ids[id] = true
		case err != nil:
			return none, k.unwritable(err)
		default: // its process is gone
			if err := l.Release(); err != nil {
				return none, k.unwritable(err)
			}
		}
	}
	return func(id string) bool { return ids[pinned(id)] }, nil
}
