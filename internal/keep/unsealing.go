package keep

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
	"grainkeep/internal/record"
	"grainkeep/internal/seal"
	"grainkeep/internal/store"
)

// unlock reads what is inside of a sealed dump: with a key that this work was given, or else, as far as it goes, what this
// machine remembers.
func (d *Dump) unlock(ctx context.Context, outer *manifest.Manifest) error {
	key, err := d.openKey(ctx, outer)
	var unfetched *seal.KeysError
	switch {
	case err == nil:
		return d.unlockWith(ctx, outer, key)
	case !errors.Is(err, seal.ErrOthers) && !errors.As(err, &unfetched):
		return err
	}
	inner, e := d.Keep.recallAll(ctx, d, memoryManifest, manifest.MaxBytes)
	names, e2 := d.Keep.recallAll(ctx, d, memoryNames, manifest.MaxNames)
	if e = errors.Join(e, e2); e != nil {
		switch {
		case errors.Is(e, fs.ErrNotExist) && unfetched != nil:
			return unfetched.Err
		case errors.Is(e, fs.ErrNotExist):
			return d.locked(err)
		}
		return fault.New("state-unusable", e, "what this machine remembers of the sealed dump %s cannot be used", d.Short())
	}
	m, err := outer.Unlock(inner, names)
	if err != nil {
		return err
	}
	d.Manifest, d.outer = m, outer
	return nil
}

func (k *Keep) recallAll(ctx context.Context, d *Dump, name string, limit int64) ([]byte, error) {
	if k == nil {
		return nil, fs.ErrNotExist
	}
	return k.sealed.recallAll(ctx, d, name, limit)
}

// locked says that the dump is sealed for others.
func (d *Dump) locked(why error) error {
	m := d.Manifest
	if d.outer != nil {
		m = d.outer
	}
	why = firstOther(why)
	return fault.New("dump-sealed", why, "the dump %s of %s is sealed, and no key that opens it is here", d.Short(), d.Name()).
		Advise("give --key FILE with a private key of: %s", strings.Join(m.Seal.For, ", "))
}

// firstOther is what is to be said of why keys did not open something, besides that they are others.
func firstOther(err error) error {
	if err == nil || err.Error() == seal.ErrOthers.Error() {
		return nil
	}
	return err
}

// openKey opens the dump's own key.
func (d *Dump) openKey(ctx context.Context, outer *manifest.Manifest) (*seal.Key, error) {
	sealed, err := d.checked(ctx, outer, manifest.SealedKey, seal.MaxKey)
	if err != nil {
		return nil, err
	}
	key, err := seal.Held(ctx).Open(sealed)
	var unfetched *seal.KeysError
	if err != nil && !errors.Is(err, seal.ErrOthers) && !errors.As(err, &unfetched) {
		return nil, d.damage(manifest.SealedKey, err)
	}
	return key, err
}

// unlockWith reads what is inside of a sealed dump with its own key.
func (d *Dump) unlockWith(ctx context.Context, outer *manifest.Manifest, key *seal.Key) error {
	sealedNames, err := d.checked(ctx, outer, manifest.SealedNames, manifest.MaxNames)
	if err != nil {
		return err
	}
	names, err := unsealAll(key, sealedNames, manifest.MaxNames)
	if err != nil {
		return d.damage(manifest.SealedNames, err)
	}
	numbers, err := manifest.ParseNames(names)
	if err != nil {
		return d.damage(manifest.SealedNames, err)
	}
	number := numbers[manifest.Name]
	sealed, err := d.checked(ctx, outer, number, manifest.MaxBytes+manifest.MaxBytes/100)
	if err != nil {
		return err
	}
	inner, err := unsealAll(key, sealed, manifest.MaxBytes)
	if err != nil {
		return d.damage(number, err)
	}
	m, err := outer.Unlock(inner, names)
	if err != nil {
		return err
	}
	d.Manifest, d.outer, d.key = m, outer, key
	proofs := make([]Proof, len(d.Proofs)) // those of a listing are shared
	for i, p := range d.Proofs {
		proofs[i] = p.opened(key)
	}
	d.Proofs = proofs
	return nil
}

func unsealAll(key *seal.Key, sealed []byte, limit int64) ([]byte, error) {
	r, err := key.Unseal(bytes.NewReader(sealed))
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(io.LimitReader(r, limit+1))
	if err == nil && int64(len(data)) > limit {
		err = errors.New("it is too large")
	}
	return data, err
}

// checked reads a small file of a sealed dump whole, and holds it against the manifest around it.
func (d *Dump) checked(ctx context.Context, outer *manifest.Manifest, name string, limit int64) ([]byte, error) {
	f, ok := outer.File(name)
	if !ok {
		return nil, d.damage(name, errors.New("it is not there"))
	}
	data, err := store.ReadAll(ctx, d.files, name, min(limit, f.Bytes))
	var large *store.TooLargeError
	switch {
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, store.ErrNotRegular), errors.As(err, &large):
		return nil, d.damage(name, err)
	case err != nil:
		return nil, fault.New("dump-unreadable", err, "cannot read %s", d.files.Where(name)).
			Advise("that says nothing about the dump: check who owns it, and the drive")
	case record.ID(data) != f.SHA256:
		return nil, d.damage(name, errors.New("its digest does not match the manifest"))
	}
	return data, nil
}

func (d *Dump) damage(name string, err error) error {
	return fault.New("dump-damaged", fmt.Errorf("%.40s is damaged: %w", name, err), "the sealed dump %s of %s cannot be opened",
		d.Short(), d.Name()).Exit(fault.ProvenBad).Advise("'grainkeep verify' looks at it; use another copy")
}

// opened opens a file of the dump, compressed as it was before it was sealed.
func (d *Dump) opened(ctx context.Context, f manifest.File) (io.ReadCloser, error) {
	switch {
	case f.In == "":
		return d.files.Open(ctx, f.Path, 0, -1)
	case d.key == nil:
		r, err := d.Keep.sealed.recall(ctx, d, f.In)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, d.locked(nil)
		}
		return r, err
	}
	outer, ok := d.outer.File(f.In)
	if !ok {
		return nil, &fs.PathError{Op: "open", Path: d.files.Where(f.In), Err: fs.ErrNotExist}
	}
	r, err := d.files.Open(ctx, f.In, 0, -1)
	if err != nil {
		return nil, err
	}
	text, err := d.key.Unseal(io.LimitReader(r, outer.Bytes+1))
	if err != nil {
		return nil, errors.Join(err, r.Close())
	}
	return readCloser{text, r}, nil
}

// StoredFile is how a file of the dump is stored.
func (d *Dump) StoredFile(path string) (manifest.File, bool) {
	f, ok := d.Manifest.File(path)
	if ok && f.In != "" {
		return d.outer.File(f.In)
	}
	return f, ok
}
