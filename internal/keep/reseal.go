package keep

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"slices"

	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
	"grainkeep/internal/rows"
	"grainkeep/internal/seal"
	"grainkeep/internal/store"
)

// Resealed says whether a dump is sealed for just the recipients of some names.
func (d *Dump) Resealed(names []string) bool {
	return d.Manifest != nil && d.Manifest.Seal != nil && slices.Equal(slices.Sorted(slices.Values(d.Manifest.Seal.For)),
		slices.Sorted(slices.Values(names)))
}

// Reseal makes a dump of a sealed one, for the session's recipients: the same sealed files, and the dump's own key sealed
// anew. So the data is neither opened nor changed, and read once; it takes a key that opens the dump. on is what it
// builds on, from the full on.
func (s *Session) Reseal(ctx context.Context, d *Dump, on []*Dump, passed func(int64), guard func(int) error) (*Dump, error) {
	old, err := d.Stored(ctx)
	if err != nil {
		return nil, err
	}
	if old.Seal == nil {
		return nil, fault.Wrong("dump-unsealed", "the dump %s is not sealed", d.Short()).
			Advise("'grainkeep copy' into a keep with a seal makes a sealed copy of it")
	}
	key, err := d.openKey(ctx, old)
	if errors.Is(err, seal.ErrOthers) {
		return nil, d.locked(err)
	}
	if err != nil {
		return nil, err
	}
	draft := s.draft(old, phrase.DefaultFolderName)
	draft.base, draft.chain, draft.called = d.Folder(), on, d.calledBy()
	if draft.sealing, err = newSealing(s.Seal); err != nil {
		return nil, err
	}
	draft.sealing.key = key
	if draft.sealing.sealedKey, err = key.SealFor(s.Seal); err != nil {
		return nil, err
	}
	var same []manifest.File
	for _, f := range old.Files {
		if f.Path != manifest.SealedKey && f.Path != manifest.Readme {
			same = append(same, f)
		}
	}
	err = rows.InParallel(ctx, readers, same, func(ctx context.Context, next func() (manifest.File, bool)) error {
		for f, ok := next(); ok; f, ok = next() {
			if err := copyFile(ctx, s.k, d, f, draft.begin, passed, guard); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return draft.placeResealed(ctx, d, old, same)
}

// placeResealed writes what is another around a dump that was sealed anew.
func (d *Draft) placeResealed(ctx context.Context, from *Dump, old *manifest.Manifest, same []manifest.File) (*Dump, error) {
	s := d.sealing
	s.files = same
	for name, text := range map[string][]byte{manifest.SealedKey: s.sealedKey, manifest.Readme: d.outerReadme()} {
		if err := s.plain(ctx, d, name, text); err != nil {
			return nil, err
		}
	}
	outer := old.Outside(old.Seal.Of, s.names, s.files)
	outer.Seal.Partial, outer.Seal.Inside, outer.Seal.Restorable = old.Seal.Partial, old.Seal.Inside, old.Seal.Restorable
	outer.Seal.Was, outer.Seal.Folder = from.ID, from.calledBy()
	if n := len(d.chain); n > 0 {
		outer.Base = d.chain[n-1].ID
	}
	done, err := d.finish(ctx, outer)
	if err == nil {
		// Where that fails, the next dump is a full.
		_ = d.s.k.sealed.also(context.WithoutCancel(ctx), from, done)
	}
	return done, err
}

// also remembers of a dump what is remembered of another one, whose files it has.
func (m *sealedMemory) also(ctx context.Context, from, to *Dump) error {
	if m == nil {
		return nil
	}
	if err := m.ready(); err != nil {
		return err
	}
	err := m.st.List(ctx, m.folderOf(from), func(e store.Entry) error {
		data, err := store.ReadAll(ctx, m.st, e.Name, e.Bytes)
		if err != nil {
			return err
		}
		return store.WriteNew(ctx, m.st, m.folderOf(to)+"/"+path.Base(e.Name), data)
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}
