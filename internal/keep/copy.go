package keep

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"

	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
	"grainkeep/internal/rows"
	"grainkeep/internal/seal"
	"grainkeep/internal/store"
)

// Copy puts a dump of another keep into the session's, file by file: the same bytes, so the same id. Each digest is
// checked while its file passes. passed is told of the bytes; guard, as Guard gives it, is asked before they are written.
// A dump that is not sealed is sealed on its way, where the keep seals; then on is what it builds on there, from the full
// on, and the copy has an id of its own, and the same origin.
func (s *Session) Copy(ctx context.Context, d *Dump, on []*Dump, passed func(int64), guard func(int) error) (*Dump, error) {
	data, err := readSmall(ctx, d.files, manifest.Name, manifest.MaxBytes)
	if err != nil {
		return nil, err
	}
	m, id, err := manifest.Decode(data)
	switch {
	case err != nil:
		return nil, err
	case id != d.ID:
		return nil, d.changed()
	}
	draft := s.draft(m, phrase.DefaultFolderName)
	draft.base, draft.chain = d.Folder(), on
	if m.Seal == nil && len(s.Seal) > 0 {
		if draft.sealing, err = newSealing(s.Seal); err != nil {
			return nil, err
		}
	}
	if draft.sealing == nil { // else each try has a key of its own
		if err := draft.goOn(ctx, id); err != nil {
			return nil, s.k.unwritable(err)
		}
	}
	err = rows.InParallel(ctx, readers, m.Files, func(ctx context.Context, next func() (manifest.File, bool)) error {
		for f, ok := next(); ok; f, ok = next() {
			there, err := draft.arrived(ctx, f)
			if err != nil {
				return s.k.unwritable(err)
			}
			if there {
				passed(f.Bytes)
				continue
			}
			if err := copyFile(ctx, s.k, d, f, draft.Create, passed, guard); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	var signature []byte
	if m.Signed != nil {
		if signature, err = readSmall(ctx, d.files, manifest.Name+manifest.Signature, seal.MaxSignature); err != nil {
			return nil, err
		}
	}
	if draft.sealing == nil {
		return draft.place(ctx, m, data, id, signature)
	}
	if len(signature) > 0 {
		if err := store.WriteNew(ctx, draft, manifest.Name+manifest.Signature, signature); err != nil {
			return nil, err
		}
	}
	if m.Base != "" {
		if len(on) == 0 {
			return nil, fault.New("base-absent", nil, "the dump %s builds on one that is not in %s", d.Short(), s.k.Where())
		}
		m.Base = on[len(on)-1].ID
	}
	return draft.enclose(ctx, data, id)
}

// copyFile copies a file of a dump. What does not match its digest is not there afterwards.
func copyFile(ctx context.Context, to *Keep, from *Dump, f manifest.File,
	create func(context.Context, string) (store.Writer, error), passed func(int64), guard func(int) error) error {
	r, err := from.Raw(ctx, f.Path)
	if err != nil {
		return fault.New("dump-unreadable", err, "cannot read %s", from.files.Where(f.Path)).
			Advise("'grainkeep verify' looks at the dump")
	}
	defer r.Close()
	w, err := create(ctx, f.Path)
	if err != nil {
		return to.unwritable(err)
	}
	digest := sha256.New()
	n, err := io.Copy(io.MultiWriter(digest, guarded{w, guard, passed}), io.LimitReader(r, f.Bytes+1))
	if err == nil && (n != f.Bytes || hex.EncodeToString(digest.Sum(nil)) != f.SHA256) {
		err = fault.New("dump-damaged", nil, "%s is damaged: it is not as the manifest says", from.files.Where(f.Path)).
			Exit(fault.ProvenBad).Advise("it was not copied: 'grainkeep verify' says what else is damaged")
	}
	if err != nil {
		return errors.Join(err, w.Abort())
	}
	if err := w.Commit(); err != nil {
		return to.unwritable(err)
	}
	return nil
}

// guarded asks before it writes, and tells afterwards.
type guarded struct {
	w      io.Writer
	guard  func(int) error
	passed func(int64)
}

func (g guarded) Write(p []byte) (int, error) {
	if err := g.guard(len(p)); err != nil {
		return 0, err
	}
	n, err := g.w.Write(p)
	g.passed(int64(n))
	return n, err
}

// ChecksDigests says that the keep's store has checked the digest of every piece that it took: what it says is there is
// what was sent.
func (k *Keep) ChecksDigests() bool {
	s, ok := k.st.(interface{ ChecksDigests() bool })
	return ok && s.ChecksDigests()
}

// Medium tells on what the keep lies, and whether on another machine.
func (k *Keep) Medium() (medium string, away bool) {
	if p, ok := k.st.(store.Placed); ok {
		return p.Medium()
	}
	return k.Where(), false
}

// Unconditional says that the keep's store was found to know no conditional writes.
func (k *Keep) Unconditional() bool {
	s, ok := k.st.(interface{ Unconditional() bool })
	return ok && s.Unconditional()
}
