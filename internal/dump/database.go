package dump

import (
	"context"
	"fmt"
	"time"

	"grainkeep/internal/blob"
	"grainkeep/internal/clock"
	"grainkeep/internal/engine"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/payload"
	"grainkeep/internal/phrase"
	"grainkeep/internal/rows"
)

// databaseDump is a dump being made.
type databaseDump struct {
	*runner
	files *blob.Set
	m     *manifest.Manifest
	chain []*keep.Dump // what it builds on, from the full on
}

func (r *runner) database(ctx context.Context, src engine.Source, session *keep.Session,
	d engine.Database) (*keep.Dump, error) {
	started := clock.Now().UTC()
	var snap engine.Snapshot
	err := rows.Within(ctx, r.Source.LockWait+r.Source.Bound(), func(ctx context.Context) (err error) {
		snap, err = src.Snapshot(ctx, d.Name)
		return err
	})
	if err != nil {
		return nil, err
	}
	defer snap.Close()
	guard := r.Keep.Guard(ctx)
	if err := guard(1 << 30); err != nil { // look now, whatever was written since
		return nil, err
	}
	o := &databaseDump{runner: r, m: r.envelope(d.Name, snap.Moment(), snap.Catalog().Position, started)}
	draft, err := session.Draft(ctx, o.m, r.Folder)
	if err != nil {
		return nil, err
	}
	o.files = blob.NewSet(draft, r.paced(ctx, guard))
	cat := snap.Catalog()
	sql := r.sql(snap, r.narrow(cat, d.Name))
	if f, is := snap.(engine.Follower); is && f.Left() != "" {
		r.feed.Note(d.Name, "%s; 'grainkeep slots' shows what that holds back, and removes it", f.Left())
	}
	b, err := r.base(ctx, d.Name, o.m.Moment)
	if err != nil {
		return nil, err
	}
	o.stand(sameDatabase(b, o.m, sql.LeftOut, cat.Tables))
	sql.Base, sql.Log = o.chain, r.Source.Log && o.m.Kind == manifest.Incremental
	o.warn(NotAsOnServer, d.Name, cat.Warnings)
	if n := int64(len(cat.Secrets)); n > 0 && !r.NoPasswords {
		o.warn(PasswordsLeftOut, d.Name,
			[]string{fmt.Sprintf("%s will come back without a password (%s): say passwords = true "+
				"in the job to dump the hashes too, or passwords = false if that is meant", phrase.Plural(n, "login"),
				list(cat.Secrets, 6))})
	}
	r.feed.Gauge().Begin("dumping "+d.Name, 0, 0)
	if o.m.Payload, err = sql.Capture(ctx, o.files, r.feed); err != nil {
		return nil, err
	}
	o.warn(NotAsOnServer, d.Name, sql.Remarks)
	for _, id := range sql.Differ {
		o.warn(LogDiffers, o.m.Database, []string{fmt.Sprintf("the server's log does not tell all that happened to %s: its rows "+
			"were looked at, and are others than the log told; the table was compared", id)})
	}
	o.noLog(sql.Doubted)
	if err := o.compare(ctx); err != nil {
		return nil, err
	}
	done, err := o.place(ctx, cat, draft)
	if err != nil {
		return nil, err
	}
	closing, err := o.closeChain(ctx, session, snap, done)
	switch {
	case ctx.Err() != nil:
		return done, nil //nolint:nilerr // the full is there; the run ends with the context
	case err != nil:
		o.notClosed(err)
	case closing != nil:
		r.res.Done = append(r.res.Done, closing)
		r.feed.Tell(Finished{closing})
	}
	return done, nil
}

// place writes what stands beside the payload, and puts the dump where dumps live.
func (o *databaseDump) place(ctx context.Context, cat *engine.Catalog, draft *keep.Draft) (*keep.Dump, error) {
	o.count()
	if err := o.loadOrder(ctx); err != nil {
		return nil, err
	}
	if err := o.readme(ctx, cat); err != nil {
		return nil, err
	}
	o.count()
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	draft.On(o.chain)
	return draft.Place(ctx)
}

// LogDoubted is the code of the warning that the server's log is not the one that it seemed to be. Nothing is missed:
// what changed is compared.
const LogDoubted = engine.LogDoubted

// LogDiffers is the code of the warning that what the server's log told of a table is not what the table has. The dump has
// what the table has.
const LogDiffers = "log-differs"

// NotFromLog is the code of the warning that what changed had to be found by comparison.
const NotFromLog = "not-from-log"

// noLog says where the server's log did not tell what changed: a warning, where it was to, or where it was doubted.
func (o *databaseDump) noLog(doubted bool) {
	sql := o.m.Payload.SQL
	if sql.Found == manifest.ByState || o.m.Kind != manifest.Incremental || o.server.Log == "" {
		return
	}
	text := ""
	if why := sql.NoLog; why != "" {
		text = "what changed was found by comparison, not from the server's log: " + why
	}
	for _, t := range sql.Tables {
		if t.NoLog != "" && t.Change != manifest.Whole && text == "" {
			text = fmt.Sprintf("what changed in %s was found by comparison: %s", t.ID, t.NoLog)
		}
	}
	switch {
	case text == "":
	case doubted:
		o.warn(LogDoubted, o.m.Database, []string{text})
	case o.Changes == FromLog:
		o.warn(NotFromLog, o.m.Database, []string{text})
	case sql.NoLog != "" && o.Changes != Compare:
		o.feed.Note(o.m.Database, "%s", text)
	}
}

// sql is what a snapshot has of a database, to be dumped.
func (r *runner) sql(snap engine.Snapshot, left []string) *payload.SQL {
	return &payload.SQL{Snapshot: snap, Catalog: snap.Catalog(), Compression: r.Compression, LeftOut: left,
		Silence: r.Source.Bound(), InOrder: r.inOrder()}
}

// inOrder says whether rows are read in the order of their keys: where that is how they lie, or where dumps are to
// build on each other.
func (r *runner) inOrder() bool {
	return r.server.Ordered && (r.server.InOrder || r.Chained || r.kind() != manifest.Full)
}

// stand puts the dump on its base, and says so where a full is taken in the place of another kind.
func (o *databaseDump) stand(b base) {
	if b.why != "" {
		o.feed.Note(o.m.Database, "a full dump is taken: %s", b.why)
	}
	o.chain = b.chain
	o.m.Kind, o.m.Base, o.m.Why, o.m.Alone = b.kind, b.id(), b.why, o.Alone && b.kind == manifest.Full
	if n := len(b.chain); n > 0 {
		o.m.From = b.chain[n-1].Manifest.To
	}
}

// paced is a guard that also keeps to the job's pace.
func (r *runner) paced(ctx context.Context, guard blob.Guard) blob.Guard {
	if r.Pace == nil {
		return guard
	}
	return func(bytes int) error {
		if err := guard(bytes); err != nil {
			return err
		}
		for bytes > 0 {
			n := min(bytes, r.Pace.Burst())
			select {
			case <-ctx.Done():
				return context.Cause(ctx)
			case <-time.After(r.Pace.ReserveN(time.Now(), n).Delay()):
			}
			bytes -= n
		}
		return nil
	}
}

// NotAsOnServer is the code of warnings about what is not of the one moment, or does not
// come back as it is on the server.
const NotAsOnServer = "not-as-on-server"

// PasswordsLeftOut is the code of the warning about users who come back without their
// passwords.
const PasswordsLeftOut = "passwords-left-out"

// warn says what does not come back as it is, here and in the manifest.
func (o *databaseDump) warn(code, database string, warnings []string) {
	for _, w := range warnings {
		o.m.Warnings = append(o.m.Warnings, manifest.Warning{Code: code, Text: w})
		o.feed.Warn(code, database, "%s", w)
	}
}

// envelope is what a manifest says of any dump, files and payload apart.
func (r *runner) envelope(database string, moment time.Time, to *engine.Position,
	started time.Time) *manifest.Manifest {
	m := &manifest.Manifest{
		Format: manifest.Version, Tool: r.Tool, Keep: r.Keep.ID, Job: r.Name, Database: database, Kind: manifest.Full,
		Note:   r.Note,
		Moment: moment.UTC(), Zone: r.Zone.String(), Started: started,
		Run: manifest.Run{ID: r.res.Run, Started: r.started},
		Source: manifest.Source{Name: r.Source.Name, Engine: r.Source.Engine, Where: r.Source.Server + r.Source.Path,
			Product: r.server.Product, Version: r.server.Version, User: r.server.User},
		To: to, Compression: string(r.Compression),
	}
	m.Run.Narrowed = len(r.Only) > 0
	for _, d := range r.plan.Databases {
		m.Run.Databases = append(m.Run.Databases, d.Name)
	}
	return m
}

// count lists the files in the manifest, with their sizes.
func (o *databaseDump) count() {
	o.m.Files, o.m.StoredBytes, o.m.RawBytes = nil, 0, 0
	for _, f := range o.files.Files() {
		o.m.Files = append(o.m.Files, manifest.File{Path: f.Path, Bytes: f.Stored, Raw: f.Raw, SHA256: f.SHA256})
		o.m.StoredBytes += f.Stored
		o.m.RawBytes += f.Raw
	}
	o.m.Finished = clock.Now().UTC()
}
