package restore

import (
	"context"
	"io"

	"grainkeep/internal/manifest"
	"grainkeep/internal/mask"
)

// chooseMasks finds the columns that the masks mean.
func (l *loader) chooseMasks(ctx context.Context) error {
	if l.opt.Masks == nil {
		return nil
	}
	made := map[string]string{}
	for _, o := range l.objects {
		if o.Kind != "table" {
			continue
		}
		sql, err := l.files.SQL(ctx, o)
		if err != nil {
			return err
		}
		made[o.OfTable()] = sql
	}
	var list []mask.Table
	for _, t := range l.tables {
		x := mask.Table{ID: t.ID, Schema: t.Schema, Name: t.Name, Root: t.Tree, Columns: t.Columns, Create: made[t.ID]}
		for _, layer := range l.layers[t.ID] {
			x.Replayed = x.Replayed || layer.Table.Change == manifest.Logged
		}
		list = append(list, x)
	}
	return l.opt.Masks.Choose(l.m.Source.Engine, list)
}

// masked gives a text with the masks on to a function.
func (l *loader) masked(text io.Reader, on func(*mask.Set, io.Reader) io.ReadCloser,
	use func(io.Reader) (int64, error)) (int64, error) {
	if l.opt.Masks == nil {
		return use(text)
	}
	out := on(l.opt.Masks, text)
	n, err := use(out)
	if why := out.Close(); why != nil { // what the server says of a text that broke off does not count
		err = why
	}
	return n, err
}
