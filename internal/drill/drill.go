// Package drill proves dumps: it restores one into a scratch database, reads it
// back through the dump code, compares every table and every object with the
// manifest, and cleans up.
package drill

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"grainkeep/internal/chain"
	"grainkeep/internal/clock"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/payload"
	"grainkeep/internal/restore"
	"grainkeep/internal/scratch"
	"grainkeep/internal/stream"
)

// Check is an administrator's question with the answer that it must have.
type Check struct {
	Database string // pattern; empty: every database of the job
	SQL      string
	Answer   string
}

// Drill is what to test, and where.
type Drill struct {
	Plan   *chain.Plan
	On     engine.Location
	Checks []Check
	Tool   string         // name and version of this program
	Stream *stream.Source // of a dump of a command; nil: it is none
}

// Run drills a dump on a source. The proof says whether the dump is good; the
// error says that it could not be tested.
func Run(ctx context.Context, d Drill, feed *event.Feed) (proof *keep.Proof, err error) {
	if err := d.Plan.Whole(ctx); err != nil {
		return nil, err
	}
	if of := d.Plan.Last(); of.Manifest.Payload.SQL == nil {
		return d.beside(ctx, of, feed)
	}
	src, err := engine.Open(ctx, d.On)
	if err != nil {
		return nil, err
	}
	defer src.Close()
	server, err := src.Describe(ctx)
	if err != nil {
		return nil, err
	}
	of := d.Plan.Last()
	if from := of.Manifest.Source; from.Product != server.Product {
		return nil, fault.New("product-differs", nil,
			"the dump is of %s, and there is %s: it shows other things about the same database, good or not",
			from.Product, server.Product).Advise("drill it on a server of %s", from.Product)
	}
	if err := prepare(ctx, src, of.Manifest.Keep, feed); err != nil {
		return nil, err
	}
	folder, err := scratch.New()
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	proof = &keep.Proof{Format: 1, Dump: of.ID, At: clock.Now().UTC(), On: d.On.Name, Product: server.Product,
		Version: server.Version,
		Tool:    d.Tool}
	if server.Wide { // a file has none of these
		proof.NotTested = []string{"owners and grants", "the server's own roles"}
	}
	if proof.On == "" {
		proof.On = d.On.Server + d.On.Path
	}
	spec := engine.Scratch(of.Manifest.Keep, keep.NewRun(), of.Manifest.Facts(), folder.Path)
	err = inScratch(ctx, src, spec, feed, func(t engine.Target) error { return d.prove(ctx, t, proof, feed) })
	if bad, yes := verdict(err); yes {
		proof.Differences = append(proof.Differences, bad)
		proof.Details = append(proof.Details, keep.Detail{Concern: keep.OfDump, Of: of.Manifest.Database, Text: bad})
		err = nil
	}
	proof.Proven = len(proof.Differences) == 0
	return proof, err
}

// prepare cleans up after killed drills, and says when the account that the drill uses
// could do more than a drill needs: whoever can change a keep decides what SQL it runs.
func prepare(ctx context.Context, src engine.Source, keepID string, feed *event.Feed) error {
	swept, err := src.Sweep(ctx, keepID)
	for _, s := range swept.Sentences() {
		feed.Warn("swept", "", "%s", s)
	}
	if err != nil {
		return err
	}
	m, ok := src.(engine.Mighty)
	if !ok {
		return nil
	}
	more, err := m.Might(ctx)
	if err != nil {
		return err
	}
	if more != "" {
		feed.Note("",
			"this account could do more than touch scratch databases: %s; see 'grainkeep grants --for drill'", more)
	}
	return nil
}

// verdict says whether an error is about the dump itself: its files, or what the server
// would not take of it. What went wrong beside it does not make it good.
func verdict(err error) (what string, bad bool) {
	var f *fault.Error
	if !errors.As(err, &f) {
		return "", false
	}
	switch {
	case payload.Damaged(f):
		return fmt.Sprint(f.Err), true
	case f.Code == "restore-failed", f.Code == "rows-missing":
		return f.Error(), true
	}
	return "", false
}

// inScratch gives f a scratch target and removes it, whatever happens.
func inScratch(ctx context.Context, src engine.Source, spec engine.TargetSpec, feed *event.Feed,
	f func(engine.Target) error) (err error) {
	t, err := src.Target(ctx, spec)
	if err != nil {
		return err
	}
	defer func() {
		e := restore.Discard(ctx, t, feed)
		switch {
		case e == nil:
		case err == nil:
			err = fault.New("scratch-left", e, "the scratch database could not be removed").
				Advise("the next drill removes it; it bears this keep's mark")
		default:
			feed.Warn("scratch-left", "", "the scratch database could not be removed: %v; the next drill removes it", e)
		}
	}()
	err = f(t)
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

func (d Drill) prove(ctx context.Context, t engine.Target, proof *keep.Proof, feed *event.Feed) error {
	of := d.Plan.Last()
	out, err := restore.Load(ctx, d.Plan, t, restore.Options{Owners: restore.Mine, Passive: true}, feed)
	if err != nil {
		return err
	}
	proof.Seconds = out.Took.Seconds()
	proof.Warnings = out.Warnings()
	parts, err := payload.NewChain(d.Plan.Dumps())
	if err != nil {
		return err
	}
	if parts.Structure.Has(engine.Active) {
		proof.NotTested = append(proof.NotTested,
			"what acts by itself (event triggers, publications, subscriptions, settings of the database)")
	}
	snap, err := t.Snapshot(ctx)
	if err != nil {
		return err
	}
	defer snap.Close()
	from := of.Manifest.Source
	c := &comparison{d: of, files: parts.Structure, snap: snap, out: out, proof: proof,
		sameSeries: manifest.Series(from.Product, from.Version) == manifest.Series(proof.Product, proof.Version),
		old:        !slices.ContainsFunc(of.Manifest.Tables(), func(t manifest.Table) bool { return t.Witness != nil })}
	if !c.sameSeries {
		proof.NotTested = append(proof.NotTested, fmt.Sprintf("the wording of definitions (dumped from %s %s, "+
			"drilled on %s)", from.Product, from.Version, proof.Version))
	}
	if err := c.objects(ctx); err != nil {
		return err
	}
	if err := c.tables(ctx, feed.Gauge()); err != nil {
		return err
	}
	return c.checks(ctx, d.Checks)
}
