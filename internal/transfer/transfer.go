// Package transfer copies dumps from keep to keep: chains whole and in order, each byte checked on its way, and read back
// from where it has arrived.
package transfer

import (
	"context"
	"errors"
	"fmt"

	"grainkeep/internal/chain"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/phrase"
	"grainkeep/internal/verify"
)

// Missing lists what a keep lacks of some dumps, and of the chains below them: bases first. All are the dumps of the keep
// that they are in, there those of the other.
func Missing(wanted, all, there []*keep.Dump) (list []*keep.Dump, err error) {
	links := chain.Link(all)
	have := map[string]bool{}
	for _, d := range there {
		if d.Manifest != nil {
			have[d.Origin()] = true
		}
	}
	for _, w := range wanted {
		p, err := links.To(w)
		if err != nil {
			return nil, err
		}
		for _, d := range p.Dumps() {
			if !have[d.Origin()] {
				have[d.Origin()] = true
				list = append(list, d)
			}
		}
	}
	return list, nil
}

// Options say how dumps are copied.
type Options struct {
	Reseal   bool // they are sealed dumps of the keep itself, and are sealed anew
	ReadBack bool // read the bytes back, also where the store has checked the digest of all that it took
}

// Arrived is told of each dump that is in place, and checked there.
type Arrived struct {
	*keep.Dump
	ReadBack bool
}

// Word implements event.Event.
func (Arrived) Word() string { return "dump-copied" }

// Text implements event.Event.
func (a Arrived) Text() string { return a.Path() }

// Failure is a dump that could not be copied.
type Failure struct {
	*keep.Dump
	Err error
}

// Run copies dumps, in their order, into a keep. A dump that cannot be copied keeps only those from being copied that
// build on it. The error is for what stops all of it.
func Run(ctx context.Context, list []*keep.Dump, to *keep.Keep, o Options, feed *event.Feed) (done []*keep.Dump,
	failed []Failure, err error) {
	if err := to.Writes(); err != nil {
		return nil, nil, err
	}
	byJob := map[string][]*keep.Dump{}
	var jobs []string
	for _, d := range list {
		if byJob[d.Manifest.Job] == nil {
			jobs = append(jobs, d.Manifest.Job)
		}
		byJob[d.Manifest.Job] = append(byJob[d.Manifest.Job], d)
	}
	for _, job := range jobs {
		d, f, err := ofJob(ctx, job, byJob[job], to, o, feed)
		done, failed = append(done, d...), append(failed, f...)
		if err != nil {
			return done, failed, err
		}
	}
	return done, failed, nil
}

// ofJob copies dumps of one job, alone with it.
func ofJob(ctx context.Context, job string, list []*keep.Dump, to *keep.Keep, o Options, feed *event.Feed) (
	done []*keep.Dump, failed []Failure, err error) {
	lease, err := to.LockJob(ctx, job)
	if err != nil {
		return nil, nil, err
	}
	defer func() { err = errors.Join(err, lease.Release()) }()
	run := keep.NewRun()
	session, err := to.Begin(ctx, run)
	if err != nil {
		return nil, nil, err
	}
	if err := session.Adopt(ctx, job); err != nil {
		return nil, nil, errors.Join(err, session.Close(context.WithoutCancel(ctx)))
	}
	if _, err := to.Sweep(ctx); err != nil {
		return nil, nil, errors.Join(err, session.Close(context.WithoutCancel(ctx)))
	}
	always := context.WithoutCancel(ctx)
	defer func() {
		if len(done) > 0 {
			err = errors.Join(err, to.RecordRun(always, run, job, done, nil))
		}
		err = errors.Join(err, session.Close(always))
	}()
	links := chain.Links{}
	if sealed(to) {
		there, err := to.Dumps(ctx)
		if err != nil {
			return nil, nil, err
		}
		links = chain.Link(there)
		for _, d := range there {
			if o.Reseal && d.Manifest != nil && d.Manifest.Seal != nil && d.Manifest.Seal.Was != "" {
				links[d.Manifest.Seal.Was] = d
			}
		}
	}
	lost := map[string]bool{}
	for _, d := range list {
		if lost[d.Manifest.Base] {
			lost[d.ID] = true
			failed = append(failed, Failure{d, fault.New("base-not-copied", nil, "%s was not copied: what it builds on was not",
				name(d))})
			continue
		}
		c, err := one(ctx, session, d, onThere(d, links), to, o, feed)
		if ctx.Err() != nil {
			return done, failed, context.Cause(ctx)
		}
		if err != nil {
			lost[d.ID] = true
			failed = append(failed, Failure{d, err})
			continue
		}
		done = append(done, c)
		if sealed(to) {
			links[c.Origin()], links[c.ID], links[d.ID] = c, c, c
		}
	}
	return done, failed, nil
}

// sealed says whether what is copied to a keep may become another dump on its way.
func sealed(to *keep.Keep) bool { return to.Seal != nil }

// onThere gives what a dump builds on, as it is in the keep that it is copied to.
func onThere(d *keep.Dump, there chain.Links) []*keep.Dump {
	if base := there[d.Manifest.Base]; base != nil {
		if p, err := there.To(base); err == nil {
			return p.Dumps()
		}
	}
	return nil
}

// one copies a dump, which nobody removes meanwhile, and reads it back.
func one(ctx context.Context, session *keep.Session, d *keep.Dump, on []*keep.Dump, to *keep.Keep, o Options,
	feed *event.Feed) (*keep.Dump, error) {
	pin, err := d.Keep.Pin(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	if pin != nil {
		defer pin.Release() //nolint:errcheck // it ends with this process at the latest
	}
	m, err := d.Stored(ctx)
	if err != nil {
		return nil, err
	}
	if err := fits(ctx, d, to); err != nil {
		return nil, err
	}
	meter := feed.Gauge()
	meter.Begin("copying "+name(d), len(m.Files), m.StoredBytes)
	do := session.Copy
	if o.Reseal {
		do = session.Reseal
	}
	c, err := do(ctx, d, on, func(n int64) { meter.Bytes.Add(n) }, to.Guard(ctx))
	if err != nil {
		return nil, err
	}
	back := o.ReadBack || !to.ChecksDigests()
	if back {
		r, err := verify.Dump(ctx, c, feed)
		if err != nil {
			return nil, err
		}
		if len(r.Findings) > 0 {
			err := fault.New("copy-damaged", nil, "what arrived of %s is damaged: %s", name(d), r.Findings[0]).
				Exit(fault.ProvenBad).Advise("it was removed again; check the drive, or the way to it")
			return nil, errors.Join(err, to.Remove(context.WithoutCancel(ctx), c, "it did not arrive as it was sent"))
		}
	}
	if c.ID != d.ID { // it was sealed: that its key opens it is still to be proven
		feed.Tell(Arrived{c, back})
		return c, nil
	}
	if err := to.CopyProofs(ctx, d); err != nil {
		feed.Warn("proofs-left", d.Manifest.Database, "the proofs of %s were not copied along: %v", name(d), err)
	}
	feed.Tell(Arrived{c, back})
	return c, nil
}

// fits fails where a dump would cross the floor of the keep.
func fits(ctx context.Context, d *keep.Dump, to *keep.Keep) error {
	room, err := to.Room(ctx)
	if err != nil || !room.Known || d.Manifest.StoredBytes <= room.Left() {
		return err
	}
	return fault.New("room-short", nil, "%s has %s, and %s has room for %s above its floor", name(d),
		phrase.Bytes(d.Manifest.StoredBytes), to.Where(), phrase.Bytes(max(0, room.Left()))).
		Advise("make room there: 'grainkeep thin' shows what may go")
}

func name(d *keep.Dump) string { return fmt.Sprintf("%s (%s)", d.Name(), d.Short()) }

// Newer lists the dumps of a job that are newer than the newest of their database in another keep.
func Newer(job string, all, there []*keep.Dump) (list []*keep.Dump) {
	newest := map[string]*keep.Dump{}
	for _, d := range there { // oldest first
		if d.Manifest != nil && d.Manifest.Job == job {
			newest[d.Manifest.Database] = d
		}
	}
	for _, d := range all {
		if d.Manifest == nil || d.Manifest.Job != job {
			continue
		}
		if n := newest[d.Manifest.Database]; n == nil || d.Manifest.Moment.After(n.Manifest.Moment) {
			list = append(list, d)
		}
	}
	return list
}

// Proofs brings the proofs of dumps along that another keep has already.
func Proofs(ctx context.Context, wanted, there []*keep.Dump, to *keep.Keep) error {
	have := map[string]bool{}
	for _, d := range there {
		have[d.ID] = d.Manifest != nil
	}
	for _, d := range wanted {
		if d.Manifest != nil && have[d.ID] && d.ProofErr == nil {
			if err := to.CopyProofs(ctx, d); err != nil {
				return err
			}
		}
	}
	return nil
}
