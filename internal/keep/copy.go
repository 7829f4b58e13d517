package keep

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"

	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
	"grainkeep/internal/rows"
	"grainkeep/internal/store"
)

// Copy puts a dump of another keep into the session's, file by file: the same bytes, so the same id. Each digest is
// checked while its file passes. passed is told of the bytes; guard, as Guard gives it, is asked before they are written.
func (s *Session) Copy(ctx context.Context, d *Dump, passed func(int64), guard func(int) error) (*Dump, error) {
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
	draft := s.Draft(m, phrase.DefaultFolderName)
	draft.base = d.dir[strings.LastIndexByte(d.dir, '/')+1:]
	err = rows.InParallel(ctx, readers, m.Files, func(ctx context.Context, next func() (manifest.File, bool)) error {
		for f, ok := next(); ok; f, ok = next() {
			if err := draft.copyFile(ctx, d, f, passed, guard); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return draft.place(ctx, data, id)
}

// copyFile copies a file of a dump. What does not match its digest is not there afterwards.
func (d *Draft) copyFile(ctx context.Context, from *Dump, f manifest.File, passed func(int64),
	guard func(int) error) error {
	r, err := from.Raw(ctx, f.Path)
	if err != nil {
		return fault.New("dump-unreadable", err, "cannot read %s", from.files.Where(f.Path)).
			Advise("'grainkeep verify' looks at the dump")
	}
	defer r.Close()
	w, err := d.Create(ctx, f.Path)
	if err != nil {
		return d.s.k.unwritable(err)
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
		return d.s.k.unwritable(err)
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

// CopyProofs brings the proofs of a dump along that are not there yet: they are about its bytes, wherever those lie.
func (k *Keep) CopyProofs(ctx context.Context, d *Dump) error {
	if d.ProofErr != nil {
		return d.ProofErr
	}
	there, err := k.proofs(ctx, d.ID)
	if err != nil {
		return err
	}
	have := map[string]bool{}
	for _, p := range there {
		have[fmt.Sprint(p.At.UTC(), p.On)] = true
	}
	for _, p := range d.Proofs {
		if !have[fmt.Sprint(p.At.UTC(), p.On)] {
			if err := k.Record(ctx, p); err != nil {
				return err
			}
		}
	}
	return nil
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
