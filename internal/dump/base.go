package dump

import (
	"context"
	"fmt"
	"slices"

	"grainkeep/internal/chain"
	"grainkeep/internal/fault"
	"grainkeep/internal/files"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
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
		if b, is := r.beside[d.Name]; !is || b.folder == nil {
			return fault.Wrong("kind-absent", "%s: only companion folders have %s dumps yet", d.Name, r.Kind).
				Advise("take a full, or name the folders: JOB/+files-NAME")
		}
	}
	return nil
}

// base finds what a dump builds on, by what the keep holds. Where nothing serves, the dump is a full.
func (r *runner) base(ctx context.Context, name string) (base, error) {
	if r.kind() == manifest.Full {
		return base{kind: manifest.Full}, nil
	}
	last, why := r.lastOf(name)
	if last == nil {
		return full("%s", why), nil
	}
	if last.Manifest.Moment.After(r.started) {
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
		if d.State() == keep.Failed {
			return full("the dump %s, on which it would build, failed its drill", d.Short()), nil
		}
		if d.State() == keep.Proven {
			break
		}
	}
	return base{kind: r.kind(), chain: list}, nil
}

// lastOf is the dump that the next of its kind builds on; nil: there is none, and why.
func (r *runner) lastOf(name string) (last *keep.Dump, why string) {
	var of []*keep.Dump // by their moments, the newest first
	for _, d := range slices.Backward(r.dumps) {
		switch {
		case d.MayBeOf(r.Name, name) && d.Manifest == nil:
			return nil, "a dump that may be of the chain cannot be read"
		case d.Manifest != nil && d.Manifest.Job == r.Name && d.Manifest.Database == name && !d.Manifest.Alone:
			of = append(of, d)
		}
	}
	at := slices.IndexFunc(of, func(d *keep.Dump) bool { return d.Manifest.Kind == manifest.Full })
	if at < 0 {
		return nil, "there is no full yet in this keep"
	}
	if r.kind() == manifest.Differential {
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
