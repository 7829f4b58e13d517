package folder

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path"

	"grainkeep/internal/store"
	"grainkeep/internal/system"
)

func token() string {
	var b [8]byte
	rand.Read(b[:])
	return hex.EncodeToString(b[:])
}

// Stage implements store.Stager. Its name has two parts, the first of which is hidden.
func (s *Store) Stage(_ context.Context, name string) (store.Stage, error) {
	if err := stageName(name); err != nil {
		return nil, err
	}
	if err := s.makeFolders(name); err != nil {
		return nil, err
	}
	if err := s.root.Mkdir(name, 0o700); err != nil {
		return nil, s.broken("make", name, err)
	}
	return &stage{s: s, name: name}, nil
}

func stageName(name string) error {
	if err := store.CheckName(name); err != nil {
		return err
	}
	if name[0] != '.' || path.Dir(name) == "." {
		return errors.New("a stage is a folder in a hidden one")
	}
	return nil
}

// Clear implements store.Stager.
func (s *Store) Clear(_ context.Context, name string) error {
	if err := stageName(name); err != nil {
		return err
	}
	if !system.Folders {
		return system.Unsynced()
	}
	err := s.walk("remove", name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	st, err := s.root.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return s.broken("remove", name, err)
	}
	if !st.IsDir() {
		return s.broken("remove", name, store.ErrNotRegular)
	}
	if err := s.root.RemoveAll(name); err != nil {
		return s.broken("remove", name, err)
	}
	_ = s.root.Remove(path.Dir(name)) // the last to leave; others may still be there
	return nil
}

type stage struct {
	s    *Store
	name string
}

func (t *stage) full(name string) (string, error) {
	return t.name + "/" + name, store.CheckName(name)
}

// Create begins a file under its own name: the stage is hidden.
func (t *stage) Create(_ context.Context, name string) (store.Writer, error) {
	full, err := t.full(name)
	if err != nil {
		return nil, err
	}
	for i := range name {
		if name[i] != '/' {
			continue
		}
		at := t.name + "/" + name[:i]
		if err := t.s.root.Mkdir(at, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
			return nil, t.s.broken("make", at, err)
		}
	}
	if err := t.s.walk("create", full); err != nil {
		return nil, err
	}
	f, err := t.s.root.OpenFile(full, os.O_CREATE|os.O_EXCL|os.O_WRONLY|system.NoFollow, 0o600)
	if err != nil {
		return nil, t.s.broken("create", full, err)
	}
	return &staged{t: t, f: f, name: full}, nil
}

type staged struct {
	t    *stage
	f    *os.File
	name string
}

func (w *staged) Write(p []byte) (int, error) { return w.f.Write(p) }

// Hint tells the disk to begin with bytes that were written.
func (w *staged) Hint(offset, length int64) { hint(w.f, offset, length) }

// Commit implements store.Writer; the folders are synced when they are placed.
func (w *staged) Commit() error {
	err := fsync(w.f)
	if e := w.f.Close(); err == nil {
		err = e
	}
	if err != nil {
		return w.t.s.broken("write", w.name, err)
	}
	return nil
}

// Abort implements store.Writer.
func (w *staged) Abort() error {
	return errors.Join(w.f.Close(), w.t.s.root.Remove(w.name))
}

// Stat implements store.Stage.
func (t *stage) Stat(ctx context.Context, name string) (store.Entry, error) {
	full, err := t.full(name)
	if err != nil {
		return store.Entry{}, err
	}
	e, err := t.s.Stat(ctx, full)
	e.Name = name
	return e, err
}

// Place implements store.Stage.
func (t *stage) Place(ctx context.Context, folder, to string) error {
	from, err := t.full(folder)
	if err != nil {
		return err
	}
	if err := store.CheckName(to); err != nil {
		return err
	}
	if err := t.s.syncBelow(ctx, from); err != nil {
		return err
	}
	if err := t.s.makeFolders(to); err != nil {
		return err
	}
	if err := t.s.renameNew(from, to); err != nil {
		return t.s.broken("place", to, err)
	}
	return t.s.syncFolder(path.Dir(to))
}

// syncBelow syncs a folder and all folders in it; files are synced when they are written.
func (s *Store) syncBelow(ctx context.Context, folder string) error {
	err := s.List(ctx, folder, func(e store.Entry) error {
		if e.Foreign {
			return s.broken("place", e.Name, store.ErrNotRegular)
		}
		if e.Folder {
			return s.syncBelow(ctx, e.Name)
		}
		return nil
	})
	if err != nil {
		return err
	}
	return s.syncFolder(folder)
}

// Exposed implements store.Stage: the file system does not keep permissions.
func (t *stage) Exposed() bool {
	st, err := t.s.root.Stat(t.name)
	return err == nil && st.Mode().Perm()&0o077 != 0
}
