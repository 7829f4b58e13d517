package payload

import (
	"context"
	"errors"

	"grainkeep/internal/blob"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/files"
	"grainkeep/internal/manifest"
)

// Tar captures a folder. It is used once.
type Tar struct {
	Tree        *files.Tree
	Folder      string // where it is, for people
	Choice      files.Choice
	Compression blob.Compression
}

// tarFile is where the tar is in a dump.
const tarFile = string(engine.Data) + "/files.tar"

// shownSkipped is how many of the things that no tar holds a manifest names.
const shownSkipped = 100

// Capture implements Capture.
func (t *Tar) Capture(ctx context.Context, set *blob.Set, feed *event.Feed) (manifest.Payload, error) {
	path := tarFile + t.Compression.Ending()
	f, err := set.Create(ctx, path, t.Compression)
	if err != nil {
		return manifest.Payload{}, err
	}
	meter := feed.Gauge()
	totals, err := t.Tree.Write(ctx, files.Output{Tar: f}, func(e files.Entry) {
		meter.Rows.Add(1)
		meter.Bytes.Add(e.Size)
	})
	if _, e := f.Close(err); err == nil {
		err = e
	}
	if err != nil {
		return manifest.Payload{}, errors.Join(err, context.Cause(ctx))
	}
	skipped := t.Tree.Remarks.Skipped
	return manifest.Payload{Type: manifest.TypeTar, Tar: &manifest.Tar{File: path, Folder: t.Folder,
		Fingerprint: files.FingerprintVersion, Sum: totals.Sum.String(), Bare: totals.Bare.String(),
		Entries: totals.Entries,
		Bytes:   totals.Bytes, Kinds: totals.Kinds, Only: t.Choice.Only, Except: t.Choice.Except,
		Skipped: skipped[:min(len(skipped), shownSkipped)]}}, nil
}
