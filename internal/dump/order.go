package dump

import (
	"context"
	"strings"

	"grainkeep/internal/blob"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/payload"
)

// folderOf is the way from the dump's folder to that of another one of its chain.
func folderOf(d *keep.Dump) string {
	if d.Keep == nil { // it is the dump itself, which is nowhere yet
		return ""
	}
	return "../" + d.Folder() + "/"
}

// dumps are the chain, and the dump itself as it is so far.
func (o *databaseDump) dumps() []*keep.Dump {
	return append(o.chain[:len(o.chain):len(o.chain)], &keep.Dump{Manifest: o.m})
}

// loadOrder writes the list of the chain's files that are to be loaded.
func (o *databaseDump) loadOrder(ctx context.Context) error {
	if len(o.chain) == 0 {
		return nil
	}
	var list []string
	if o.m.Payload.SQL != nil {
		c, err := payload.NewChain(o.dumps())
		if err != nil {
			return err
		}
		if list, err = c.LoadOrder(folderOf); err != nil {
			return err
		}
	} else {
		for _, d := range o.dumps() {
			for _, f := range []string{d.Manifest.Payload.Tar.Gone, d.Manifest.Payload.Tar.File} {
				if f != "" {
					list = append(list, folderOf(d)+f)
				}
			}
		}
	}
	return o.files.Write(ctx, manifest.LoadOrder, blob.None, strings.Join(list, "\n"), "\n")
}
