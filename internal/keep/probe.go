package keep

import (
	"context"
	"errors"
	"io/fs"

	"grainkeep/internal/store"
)

// Abilities are what this user may do in a keep's store, found out by doing it with a small file.
type Abilities struct {
	Lacking []string // of what dumping, thinning and leases need, in words
	Alone   bool     // two who make the same file at the same instant are told of each other
}

// Probe makes, reads, changes and removes a file in the keep's hidden folder. The error is of the context only.
func (k *Keep) Probe(ctx context.Context) (a Abilities, err error) {
	name := workName + "/probe-" + NewRun()
	try := func(what string, work func() error) bool {
		e := work()
		if e != nil {
			a.Lacking = append(a.Lacking, what)
		}
		return e == nil
	}
	made := try("make files", func() error { return store.WriteNew(ctx, k.st, name, []byte("x")) })
	if made {
		a.Alone = errors.Is(store.WriteNew(ctx, k.st, name, []byte("y")), fs.ErrExist) && !k.Unconditional()
		try("read them", func() error {
			_, e := store.ReadAll(ctx, k.st, name, 1)
			return e
		})
	}
	try("list them", func() error { return k.st.List(ctx, "", func(store.Entry) error { return nil }) })
	if r, can := k.st.(store.Replacer); can && made {
		try("change them", func() error { return r.Replace(ctx, name, []byte("z")) })
	}
	if made {
		try("remove them", func() error { return k.st.Remove(ctx, name) })
	}
	return a, context.Cause(ctx)
}
