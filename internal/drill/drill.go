// Package drill proves dumps: it restores one into a scratch database, reads it
// back through the dump code, compares every table and every object with the
// manifest, and cleans up.
package drill

import (
	"context"
	"errors"
	"os"
	"time"

	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/restore"
)

// Check is an administrator's question with the answer that it must have.
type Check struct {
	Database string // pattern; empty: every database of the job
	SQL      string
	Answer   string
}

// Watcher is told how a drill goes on.
type Watcher struct {
	Warn  func(string)
	Meter *event.Meter
}

// Run drills a dump on a source. The proof says whether the dump is good; the
// error says that it could not be tested.
func Run(ctx context.Context, d *keep.Dump, on engine.Location, k *keep.Keep, checks []Check, tool string, w Watcher) (proof *keep.Proof, err error) {
	src, err := engine.Open(ctx, on)
	if err != nil {
		return nil, err
	}
	defer src.Close()
	server, err := src.Describe(ctx)
	if err != nil {
		return nil, err
	}
	swept, err := src.Sweep(ctx, d.Manifest.Keep)
	for _, s := range swept.Sentences() {
		w.Warn(s)
	}
	if err != nil {
		return nil, err
	}
	run := keep.NewRun()
	folder, clean, err := scratchFolder(k, run)
	if err != nil {
		return nil, err
	}
	defer clean()
	proof = &keep.Proof{Format: 1, Dump: d.ID, At: time.Now().UTC(), On: on.Name, Product: server.Product, Version: server.Version, Tool: tool,
		NotTested: []string{"owners and grants", "the server's own roles"}}
	if proof.On == "" {
		proof.On = on.Server + on.Path
	}
	err = inScratch(ctx, src, engine.TargetSpec{KeepID: d.Manifest.Keep, Run: run, Facts: d.Manifest.Facts, Folder: folder}, func(t engine.Target) error {
		return prove(ctx, d, t, checks, proof, w.Meter)
	})
	if restore.Damaged(err) {
		proof.Differences = append(proof.Differences, fault.Of(err).Err.Error())
		err = nil
	} else if fault.HasCode(err, "restore-failed") || fault.HasCode(err, "rows-missing") {
		proof.Differences = append(proof.Differences, fault.Of(err).Error())
		err = nil
	}
	proof.Proven = len(proof.Differences) == 0
	return proof, err
}

// inScratch gives f a scratch target and removes it, whatever happens.
func inScratch(ctx context.Context, src engine.Source, spec engine.TargetSpec, f func(engine.Target) error) (err error) {
	t, err := src.Target(ctx, spec)
	if err != nil {
		return err
	}
	defer func() {
		clean, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		if e := t.Discard(clean); e != nil {
			err = errors.Join(err, fault.New("scratch-left", e, "the scratch database could not be removed").
				Advise("the next drill removes it; it bears this keep's mark"))
		}
	}()
	err = f(t)
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

// scratchFolder is where a file engine may restore: the keep's working folder,
// or the system's, if the keep cannot be written.
func scratchFolder(k *keep.Keep, run string) (string, func(), error) {
	if k != nil && !k.ReadOnly {
		if _, err := k.Sweep(); err != nil {
			return "", nil, err
		}
		w, err := k.NewWork(run)
		if err != nil {
			return "", nil, err
		}
		return w.Folder, func() { w.Close() }, nil
	}
	dir, err := os.MkdirTemp("", "grainkeep-drill-")
	if err != nil {
		return "", nil, fault.New("scratch-unwritable", err, "no folder can be made to drill in").
			Advise("set TMPDIR to a folder with room for the database")
	}
	return dir, func() { os.RemoveAll(dir) }, nil
}

func prove(ctx context.Context, d *keep.Dump, t engine.Target, checks []Check, proof *keep.Proof, meter *event.Meter) error {
	out, err := restore.Load(ctx, d, t, restore.Options{Owners: restore.Mine, Passive: true}, meter)
	if err != nil {
		return err
	}
	proof.Seconds = out.Took.Seconds()
	proof.Warnings = out.Warnings()
	if d.Manifest.Has(string(engine.Active)) {
		proof.NotTested = append(proof.NotTested, "what acts by itself (event triggers, publications, subscriptions, settings of the database)")
	}
	snap, err := t.Snapshot(ctx)
	if err != nil {
		return err
	}
	defer snap.Close()
	c := &comparison{d: d, snap: snap, out: out, proof: proof}
	if err := c.objects(); err != nil {
		return err
	}
	if err := c.tables(ctx, meter); err != nil {
		return err
	}
	return c.checks(ctx, checks)
}
