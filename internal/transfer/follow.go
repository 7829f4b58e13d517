package transfer

import (
	"context"
	"errors"
	"slices"

	"grainkeep/internal/clock"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
)

// Follow removes from a mirror the dumps of a job that were removed from where they were copied from: by its records, not
// because they are not there, since a keep that was lost or emptied removes nothing. What is held or read there stays, and
// what something that stays builds on.
func Follow(ctx context.Context, job string, from, to *keep.Keep, gone func(*keep.Dump)) (err error) {
	lease, err := to.LockJob(ctx, job)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, lease.Release()) }()
	removed, err := from.Removed(ctx)
	if err != nil {
		return err
	}
	there, err := to.Dumps(ctx)
	if err != nil {
		return err
	}
	holds, err := to.Holds(ctx)
	if err != nil {
		return err
	}
	pinned, err := to.Pins(ctx)
	if err != nil {
		return err
	}
	needed := map[string]bool{}
	for _, d := range slices.Backward(there) { // what builds on others is newer
		if d.Manifest == nil || d.Manifest.Job != job {
			continue
		}
		h, held := holds[d.ID]
		if !removed[d.ID] && !removed[d.Origin()] || needed[d.ID] || pinned(d.ID) || held && !h.Ended(clock.Now()) {
			needed[d.Manifest.Base] = true
			continue
		}
		err := to.Remove(ctx, d, "it was removed from "+from.Where())
		if fault.HasCode(err, "object-locked") { // its time has not come
			needed[d.Manifest.Base] = true
			continue
		}
		if err != nil {
			return err
		}
		gone(d)
	}
	return nil
}
