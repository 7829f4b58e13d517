package dump

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"grainkeep/internal/blob"
	"grainkeep/internal/clock"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
)

// ChainDiffers is the code of the warning that what the server's log told is not what the tables have.
const ChainDiffers = "chain-differs"

// closeChain closes the chain that a new baseline ends, or the increments that a differential passes over, at exactly its
// position: an increment from the log, whose tables have the fingerprints that reading them has just given. So it is known
// at once whether the log told all, a drill can test it, and any moment up to there can be restored. Where no log told of
// anything there is nothing to close; nor is it a failure of the dump where it cannot be done.
func (o *databaseDump) closeChain(ctx context.Context, session *keep.Session, snap engine.Snapshot,
	full *keep.Dump) (*keep.Dump, error) {
	if !o.Source.Log || full.Manifest.Kind == manifest.Incremental || full.Manifest.Alone {
		return nil, nil
	}
	c := &databaseDump{runner: o.runner, m: o.envelope(o.m.Database, snap.Moment(), snap.Catalog().Position,
		clock.Now().UTC())}
	b, err := c.baseOf(ctx, manifest.Incremental, c.m.Database, c.m.Moment)
	if err != nil || len(b.chain) == 0 {
		return nil, err
	}
	told := false
	for _, d := range b.chain {
		told = told || d.Manifest.Payload.SQL != nil && d.Manifest.Payload.SQL.Found == manifest.ByLog
	}
	cat := snap.Catalog()
	left := full.Manifest.Payload.SQL.LeftOut
	if b = sameDatabase(b, c.m, left, cat.Tables); !told || len(b.chain) == 0 {
		return nil, nil
	}
	b.why = ""
	c.stand(b)
	draft, err := session.Draft(ctx, c.m, o.Folder)
	if err != nil {
		return nil, err
	}
	c.files = blob.NewSet(draft, o.paced(ctx, o.Keep.Guard(ctx)))
	sql := o.sql(snap, left)
	sql.InOrder, sql.Base, sql.Log, sql.OnlyLog = true, c.chain, true, true
	c.m.Closes = full.Origin()
	o.feed.Gauge().Begin("closing the chain of "+o.m.Database, 0, 0)
	if c.m.Payload, err = sql.Capture(ctx, c.files, o.feed); err != nil {
		return nil, err
	}
	differ := c.known(full.Manifest)
	closing, err := c.place(ctx, cat, draft)
	if err == nil && len(differ) > 0 {
		err = c.condemn(ctx, closing, differ)
	}
	return closing, err
}

// known gives the tables the fingerprints that a dump of the same snapshot found, which read them all, and tells of which
// tables those are others than the log's.
func (o *databaseDump) known(full *manifest.Manifest) (differ []string) {
	read := full.Payload.SQL.ByID()
	for i := range o.m.Payload.SQL.Tables {
		t := &o.m.Payload.SQL.Tables[i]
		was := read[t.ID]
		if t.Sum != "" && t.Sum != was.Sum || !t.About && t.Rows != was.Rows {
			differ = append(differ, t.ID)
		}
		t.Rows, t.About, t.Sum, t.Bytes, t.Generated, t.Witness = was.Rows, false, was.Sum, was.Bytes, was.Generated,
			was.Witness
	}
	if len(differ) > 0 {
		o.warn(ChainDiffers, o.m.Database, []string{fmt.Sprintf("what the server's log told since the last full is not "+
			"what the tables hold: %s; moments of the increments may be wrong, the new %s is not", strings.Join(differ, ", "),
			full.Kind)})
	}
	return differ
}

// condemn notes of the increments of a chain that they may be wrong, since what the log told of some tables was not all:
// from where it first told of them on, up to where they were read again.
func (o *databaseDump) condemn(ctx context.Context, closing *keep.Dump, differ []string) error {
	for _, d := range append(slices.Clone(o.chain), closing) {
		sql := d.Manifest.Payload.SQL
		told := slices.ContainsFunc(sql.Tables, func(t manifest.Table) bool {
			return slices.Contains(differ, t.ID) && t.NoLog == "" && (t.Change == manifest.Logged || t.Change == manifest.Unchanged)
		})
		if sql.Found != manifest.ByLog || !told {
			continue
		}
		text := "what the server's log told is not what the tables hold: " + strings.Join(differ, ", ")
		err := d.Record(ctx, keep.Proof{Format: 1, Dump: d.ID, At: clock.Now().UTC(), Audit: true, On: o.Source.Name,
			Product: o.server.Product, Version: o.server.Version, Tool: o.Tool, Tables: len(differ),
			Differences: []string{text}, Details: []keep.Detail{{Concern: keep.OfRows, Of: o.m.Database, Text: text}}})
		if err != nil {
			return err
		}
	}
	return nil
}

// notClosed says that a chain could not be closed. The dump is there all the same.
func (o *databaseDump) notClosed(err error) {
	o.feed.Warn("chain-not-closed", o.m.Database, "what the log told up to this dump could not be held against it: %s: "+
		"the increments before it are not proven by it", fault.Of(err).Error())
}
