package keep

import (
	"context"
	"errors"
	"sync/atomic"

	"grainkeep/internal/fault"
	"grainkeep/internal/phrase"
	"grainkeep/internal/store"
)

// Floor is the free space that must be left on a keep's file system.
type Floor = phrase.Floor

// Room is the state of a keep's file system, in bytes.
type Room struct {
	Free, Total, Floor int64
	Known              bool // the store can tell; else the others are zero
}

// Left is how much may still be written above the floor; negative when the
// floor is crossed already.
func (r Room) Left() int64 { return r.Free - r.Floor }

// Room reads the state of the keep's file system.
func (k *Keep) Room(ctx context.Context) (Room, error) {
	st, ok := k.st.(store.Roomy)
	if !ok {
		return Room{}, nil
	}
	r := Room{Floor: k.Floor.Bytes, Known: true}
	var err error
	if r.Free, r.Total, err = st.Room(ctx); errors.Is(err, errors.ErrUnsupported) {
		return Room{}, nil
	}
	if err != nil {
		return Room{}, fault.New("keep-unreadable", err, "cannot read the free space of the keep %s", k.Where())
	}
	if k.Floor.Percent > 0 {
		r.Floor = int64(float64(r.Total) * k.Floor.Percent / 100)
	}
	return r, nil
}

// FloorReached is the refusal to write below the floor.
func (k *Keep) FloorReached(r Room) error {
	return fault.New("floor-reached", nil, "the floor of the keep %s is reached: %s free, and %s must be left",
		k.Where(), phrase.Bytes(r.Free), phrase.Bytes(r.Floor)).
		Advise("make room on its drive, use a larger one, or lower the floor")
}

// How many bytes pass between two looks at the free space; of a store on another machine each look takes a while.
const (
	guardEvery     = 4 << 20
	guardAwayEvery = 64 << 20
)

// Guard gives a check for writers: it refuses bytes that would cross the floor,
// and any bytes once the keep has gone. It may be called side by side.
func (k *Keep) Guard(ctx context.Context) func(n int) error {
	every := int64(guardEvery)
	if _, away := k.Medium(); away {
		every = guardAwayEvery
	}
	var since atomic.Int64
	since.Store(every)
	return func(n int) error {
		if since.Add(int64(n)) < every {
			return nil
		}
		since.Store(0)
		if err := k.Present(ctx); err != nil {
			return err
		}
		r, err := k.Room(ctx)
		if err != nil {
			return err
		}
		if r.Floor > 0 && r.Left() < 0 {
			return k.FloorReached(r)
		}
		return nil
	}
}
