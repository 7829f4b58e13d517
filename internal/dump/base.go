package dump

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"grainkeep/internal/chain"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/files"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/payload"
	"grainkeep/internal/phrase"
	"grainkeep/internal/rows"
	"grainkeep/internal/verify"
)

// base is what a dump builds on, and why it is of its kind.
type base struct {
	kind  manifest.Kind
	chain []*keep.Dump // from the full on; none: the dump is a full
	why   string
}

// id is the base's id; empty: there is none.
func (b base) id() string {
	if len(b.chain) == 0 {
		return ""
	}
	return b.chain[len(b.chain)-1].ID
}

// full is no base, for a reason.
func full(format string, args ...any) base {
	return base{kind: manifest.Full, why: fmt.Sprintf(format, args...)}
}

// kind is that of the dumps, where they have something to build on.
func (r *runner) kind() manifest.Kind {
	if r.Kind == "" {
		return manifest.Full
	}
	return r.Kind
}

// kinds fails where the run takes something of which there is only a full.
func (r *runner) kinds() error {
	if r.kind() == manifest.Full {
		return nil
	}
	for _, d := range r.plan.Databases {
		b, is := r.beside[d.Name]
		if is && b.folder != nil || !is && r.server.Ordered {
			continue
		}
		return fault.Wrong("kind-absent", "%s: there are no %s dumps of %s yet", d.Name, r.Kind,
			map[bool]string{true: "a command", false: r.server.Product}[is]).
			Advise("take a full, or name what else the job dumps: JOB/DATABASE")
	}
	return nil
}

// base finds what a dump of a moment builds on, by what the keep holds. Where nothing serves, the dump is a full. The
// moments are those of the same clock, the server's, whatever this machine's says.
func (r *runner) base(ctx context.Context, name string, moment time.Time) (base, error) {
	if r.kind() == manifest.Full {
		return base{kind: manifest.Full}, nil
	}
	return r.baseOf(ctx, r.kind(), name, moment)
}

// baseOf finds what a dump of a kind builds on.
func (r *runner) baseOf(ctx context.Context, kind manifest.Kind, name string, moment time.Time) (base, error) {
	if r.Keep.Blind() {
		return full("what it would build on cannot be read by this user"), nil
	}
	last, why := r.lastOf(kind, name)
	if last == nil {
		return full("%s", why), nil
	}
	if last.Manifest.Moment.After(moment) {
		return full("the clock went back: the last dump is of %s", phrase.Both(last.Manifest.Moment, r.Zone)), nil
	}
	p, err := chain.Link(r.dumps).To(last)
	if err == nil {
		err = p.Whole(ctx)
	}
	if ctx.Err() != nil {
		return base{}, context.Cause(ctx)
	}
	if err != nil {
		return full("the chain cannot be used: %v", err), nil
	}
	list := p.Dumps()
	for _, d := range slices.Backward(list) { // the newest drill says whether the chain is good
		if s := d.State(); s.Bad() {
			return full("the dump %s, on which it would build, %s", d.Short(), s), nil
		}
		if d.State() == keep.Proven {
			break
		}
	}
	for _, x := range payload.Indexes(list) {
		for _, path := range x.Paths {
			f, _ := x.Dump.StoredFile(path)
			switch bad, err := verify.File(ctx, x.Dump, f, nil); {
			case err != nil:
				return base{}, err
			case bad != "":
				return full("the chain cannot be used: of the dump %s, %s", x.Dump.Short(), bad), nil
			}
		}
	}
	return base{kind: kind, chain: list}, nil
}

// lastOf is the dump that the next of its kind builds on; nil: there is none, and why.
func (r *runner) lastOf(kind manifest.Kind, name string) (last *keep.Dump, why string) {
	var of []*keep.Dump // by their moments, the newest first
	for _, d := range slices.Backward(r.dumps) {
		switch {
		case d.MayBeOf(r.Name, name) && d.Manifest == nil:
			return nil, "a dump that may be of the chain cannot be read"
		case d.Manifest != nil && d.Manifest.Job == r.Name && d.Manifest.Database == name && !d.Manifest.Alone &&
			d.Manifest.Closes == "":
			of = append(of, d)
		}
	}
	at := slices.IndexFunc(of, func(d *keep.Dump) bool { return d.Manifest.Kind == manifest.Full })
	if at < 0 {
		return nil, "there is no full yet in this keep"
	}
	if kind == manifest.Differential {
		return of[at], ""
	}
	return of[0], "" // whatever is newer than the newest full builds on it, or on a chain that is broken
}

// sameFolder is the base of a folder's dump, if the folder is the one that it was, and chosen in the same way.
func sameFolder(b base, where string, c files.Choice) base {
	for _, d := range b.chain {
		t := d.Manifest.Payload.Tar
		switch {
		case t == nil:
			return full("the dump %s holds no folder", d.Short())
		case t.Index == "":
			return full("the dump %s is of an older version and has no index", d.Short())
		case t.Fingerprint != files.FingerprintVersion:
			return full("the fingerprints of the dump %s are of another version", d.Short())
		case t.Folder != where || !slices.Equal(t.Only, c.Only) || !slices.Equal(t.Except, c.Except):
			return full("what the job takes of the folder has changed")
		}
	}
	return b
}

// sameDatabase is the base of a database's dump, if that is of the database that it was, and chosen and written in the
// same way. What changed in the structure is no matter: each table that is made otherwise is dumped whole.
func sameDatabase(b base, m *manifest.Manifest, left []string, tables []engine.Table) base {
	for _, d := range b.chain {
		was := d.Manifest
		sql := was.Payload.SQL
		switch {
		case sql == nil:
			return full("the dump %s holds no database", d.Short())
		case sql.Fingerprint != rows.FingerprintVersion:
			return full("the fingerprints of the dump %s are of another version", d.Short())
		case slices.ContainsFunc(sql.Tables, func(t manifest.Table) bool { return t.Shape == "" }):
			return full("the dump %s is of an older version of this program", d.Short())
		case was.Source.Where != m.Source.Where:
			return full("the job's source was another one: %s", phrase.Clean(was.Source.Where))
		case was.Source.Product != m.Source.Product || manifest.Series(was.Source.Product, was.Source.Version) !=
			manifest.Series(m.Source.Product, m.Source.Version):
			return full("the server was another one: %s %s", was.Source.Product, was.Source.Version)
		case was.Compression != m.Compression:
			return full("the job's compression has changed")
		}
	}
	// What the last one chose, those before it chose too.
	if n := len(b.chain); n > 0 && choiceChanged(b.chain[n-1].Manifest.Payload.SQL, left, tables) {
		return full("the job's choice of tables has changed")
	}
	return b
}

// choiceChanged says whether a table that was dumped is left out now, or the other way round, or whether other rows of
// one are chosen.
func choiceChanged(was *manifest.SQL, left []string, tables []engine.Table) bool {
	past, leftThen := was.ByID(), map[string]bool{}
	for _, id := range was.LeftOut {
		leftThen[id] = true
	}
	for _, id := range left {
		table, is := strings.CutPrefix(id, "table ")
		if _, there := past[table]; is && there {
			return true
		}
	}
	return slices.ContainsFunc(tables, func(t engine.Table) bool {
		w, ok := past[t.ID]
		return ok && w.Condition != t.Condition || leftThen["table "+t.ID]
	})
}
