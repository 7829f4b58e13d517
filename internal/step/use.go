package step

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"time"

	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/state"
	"grainkeep/internal/system"
)

// Use is the use of a keep whose steps mount and unmount it. Several processes may use it at the same time: the
// first runs the steps before, the last those after.
type Use struct {
	a     Around
	name  string
	facts Facts
	users *os.File // locked by all who use it; for alone by the first, and by the last
}

// Enter begins to use a keep.
func (a Around) Enter(ctx context.Context, name string, facts Facts, feed *event.Feed) (*Use, error) {
	if len(a.Before)+len(a.After) == 0 {
		return nil, nil
	}
	u := &Use{a: a, name: "keep-" + name, facts: facts}
	err := u.gated(ctx, func() error {
		f, err := state.OpenFile(filepath.Join(a.Folder, u.name+".users"), os.O_CREATE|os.O_RDWR)
		if err != nil {
			return err
		}
		u.users = f
		if system.Lock(f) == nil {
			err = u.first(ctx, feed)
		}
		if err == nil {
			err = system.LockShared(f)
		}
		if err != nil {
			return errors.Join(err, f.Close()) // before the gate opens: whoever enters next must find nobody
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return u, nil
}

// first makes good what one who was killed left, and runs the steps before.
func (u *Use) first(ctx context.Context, feed *event.Feed) error {
	if err := makeGood(ctx, u.path(), feed); err != nil {
		return err
	}
	o, err := u.a.Begin(ctx, u.name, KeepBefore, KeepAfter, u.facts, feed)
	if err != nil {
		return err
	}
	return o.lock.Close() // others who use it may live longer than this process: the users' lock tells
}

func (u *Use) path() string { return filepath.Join(u.a.Folder, u.name+noteEnding) }

// Abandoned runs the steps after for keeps that nobody uses any more, since those who did were killed.
func Abandoned(ctx context.Context, folder string, feed *event.Feed) error {
	return eachNote(folder, func(name string) error {
		u := &Use{a: Around{Folder: folder}, name: name}
		return u.gated(ctx, func() error {
			f, err := state.OpenFile(filepath.Join(folder, name+".users"), os.O_CREATE|os.O_RDWR)
			if err != nil {
				return err
			}
			defer f.Close()
			if system.Lock(f) != nil {
				return nil // it is used
			}
			return makeGood(ctx, u.path(), feed)
		})
	})
}

// Leave ends the use.
func (u *Use) Leave(ctx context.Context, feed *event.Feed) error {
	if u == nil {
		return nil
	}
	return u.gated(context.WithoutCancel(ctx), func() error {
		defer u.users.Close() // before the gate opens: whoever enters next must find nobody
		if system.Lock(u.users) != nil {
			return nil // others use it
		}
		if err := all(context.WithoutCancel(ctx), u.a.After, KeepAfter, u.facts, feed, true); err != nil {
			return err
		}
		return os.Remove(u.path())
	})
}

// gated does something while nobody else begins or ends to use the keep.
func (u *Use) gated(ctx context.Context, do func() error) error {
	if err := state.Folder(u.a.Folder); err != nil {
		return fault.New("intent-unwritable", err, "the use of the keep cannot be noted")
	}
	gate, err := state.OpenFile(filepath.Join(u.a.Folder, u.name+".gate"), os.O_CREATE|os.O_RDWR)
	if err != nil {
		return fault.New("intent-unwritable", err, "the use of the keep cannot be noted").
			Advise("check who owns %s", u.a.Folder)
	}
	defer gate.Close()
	for system.Lock(gate) != nil {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(50 * time.Millisecond):
		}
	}
	return do()
}
