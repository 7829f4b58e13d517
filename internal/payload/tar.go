package payload

import (
	"context"
	"errors"
	"io"

	"grainkeep/internal/blob"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/files"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
)

// Tar captures a folder: all of it, or what changed since a chain's last dump. It is used once.
type Tar struct {
	Tree        *files.Tree
	Folder      string // where it is, for people
	Choice      files.Choice
	Compression blob.Compression
	Base        []*keep.Dump // the chain, from its full on; none: all is captured
	ByContent   bool         // files are read to know whether they changed
}

// Where the files of a folder are in a dump.
const (
	tarFile     = string(engine.Data) + "/files.tar"
	changesFile = string(engine.Changes) + "/files.tar"
	goneFile    = manifest.GoneFile
	indexFile   = manifest.Entries
)

// shownSkipped is how many of the things that no tar holds a manifest names.
const shownSkipped = 100

// Capture implements Capture.
func (t *Tar) Capture(ctx context.Context, set *blob.Set, feed *event.Feed) (manifest.Payload, error) {
	if len(t.Base) == 0 {
		return t.capture(ctx, set, nil, feed)
	}
	p, err := Past(ctx, t.Base)
	if err != nil {
		return manifest.Payload{}, err
	}
	var out manifest.Payload
	full := t.Base[0]
	err = Whole(ctx, full, full.Manifest.Payload.Tar.Index, func(r io.Reader) (err error) {
		if err = p.Begin(r); err == nil {
			out, err = t.capture(ctx, set, p, feed)
		}
		return err
	})
	return out, err
}

// capture writes the files, along with what is known of the past.
func (t *Tar) capture(ctx context.Context, set *blob.Set, past *files.Past, feed *event.Feed) (manifest.Payload,
	error) {
	ending := t.Compression.Ending()
	m := &manifest.Tar{File: tarFile + ending, Index: indexFile + ending, Folder: t.Folder,
		Fingerprint: files.FingerprintVersion, Only: t.Choice.Only, Except: t.Choice.Except}
	if past != nil {
		m.File, m.Gone = changesFile+ending, goneFile+ending
	}
	out := files.Output{Past: past, ByContent: t.ByContent}
	var open []*blob.File
	var err error
	for _, x := range []struct {
		path string
		into *io.Writer
	}{{m.File, &out.Tar}, {m.Index, &out.Index}, {m.Gone, &out.Gone}} {
		if x.path == "" || err != nil {
			continue
		}
		var f *blob.File
		if f, err = set.Create(ctx, x.path, t.Compression); err == nil {
			open, *x.into = append(open, f), f
		}
	}
	var totals files.Totals
	meter := feed.Gauge()
	if err == nil {
		totals, err = t.Tree.Write(ctx, out, func(e files.Entry) {
			meter.Rows.Add(1)
			meter.Bytes.Add(e.Size)
		})
	}
	cause := err
	for _, f := range open {
		if _, e := f.Close(cause); err == nil {
			err = e
		}
	}
	if err != nil {
		return manifest.Payload{}, errors.Join(err, context.Cause(ctx))
	}
	m.Sum, m.Bare = totals.Sum.String(), totals.Bare.String()
	m.Entries, m.Bytes, m.Kinds = totals.Entries, totals.Bytes, totals.Kinds
	if past != nil {
		m.Written = totals.Written
	}
	skipped := t.Tree.Remarks.Skipped
	m.Skipped = skipped[:min(len(skipped), shownSkipped)]
	return manifest.Payload{Type: manifest.TypeTar, Tar: m}, nil
}

// Past reads what the dumps of a chain after its full say of a folder, and checks every byte that it reads.
func Past(ctx context.Context, chain []*keep.Dump) (*files.Past, error) {
	p := files.NewPast()
	for i, d := range chain[1:] {
		t := d.Manifest.Payload.Tar
		err := Whole(ctx, d, t.Gone, func(gone io.Reader) error {
			return Whole(ctx, d, t.Index, func(index io.Reader) error { return p.Apply(i+1, gone, index) })
		})
		if err != nil {
			return nil, err
		}
	}
	return p, nil
}
