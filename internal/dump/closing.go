package dump

import (
	"context"
	"fmt"
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

// closeChain closes the chain that a new baseline ends, at exactly its position: an increment from the log, whose
// tables have the fingerprints that the full has just found. So a drill of it tests what the log told of the whole
// time. A chain of which no log told needs none; nor is it a failure of the full where there is none.
func (o *databaseDump) closeChain(ctx context.Context, session *keep.Session, snap engine.Snapshot,
	full *keep.Dump) (*keep.Dump, error) {
	if !o.Source.Log || full.Manifest.Kind != manifest.Full || full.Manifest.Alone {
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
	c.known(full.Manifest)
	return c.place(ctx, cat, draft)
}

// known gives the tables the fingerprints that a full of the same snapshot found, and says where those are others than
// the log's.
func (o *databaseDump) known(full *manifest.Manifest) {
	read := full.Payload.SQL.ByID()
	var differ []string
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
			"what the tables hold: %s; moments of the old chain may be wrong, the new full is not", strings.Join(differ, ", "))})
	}
}

// notClosed says that a chain could not be closed. The full is there all the same.
func (o *databaseDump) notClosed(err error) {
	o.feed.Warn("chain-not-closed", o.m.Database, "the chain before the new full could not be closed: %s: its end is not "+
		"proven by the full", fault.Of(err).Error())
}
