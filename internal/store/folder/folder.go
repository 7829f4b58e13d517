// Package folder is the store whose files lie in a folder of this machine, or of
// another that is mounted here. It reaches them through os.Root and follows no link
// at all, so nothing that stands in the folder leads out of it, or elsewhere in it.
package folder

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"grainkeep/internal/store"
	"grainkeep/internal/system"
)

func init() { store.Register("file", opener{}) }

type opener struct{}

// Open opens the store in a folder.
func (opener) Open(_ context.Context, place string) (store.Store, error) { return Open(place) }

// Make makes the folder if need be; what is in it stays as it is.
func (opener) Make(_ context.Context, place string) (store.Store, error) {
	if !system.Folders {
		return nil, system.Unsynced()
	}
	if err := os.MkdirAll(place, 0o700); err != nil {
		return nil, err
	}
	return Open(place)
}

// Store is a folder. Its methods may be called side by side.
type Store struct {
	root *os.Root
	path string // absolute
}

// Open opens a folder.
func Open(place string) (*Store, error) {
	place, err := filepath.Abs(place)
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(place)
	if err != nil {
		return nil, err
	}
	return &Store{root: root, path: place}, nil
}

// Where is a name's path.
func (s *Store) Where(name string) string { return filepath.Join(s.path, filepath.FromSlash(name)) }

// ReadOnly says that this user cannot write here now.
func (s *Store) ReadOnly() bool { return !system.Folders || !system.Writable(s.path) }

// Present says that the folder is still the one that was opened: a drive that is
// unmounted, or another that is mounted over it, is not.
func (s *Store) Present() bool {
	now, err := os.Stat(s.path)
	if err != nil {
		return false
	}
	then, err := s.root.Stat(".")
	return err == nil && os.SameFile(now, then)
}

// fsync brings a file or a folder to the disk; tests look on.
var fsync = (*os.File).Sync

// broken is an error about a name.
func (s *Store) broken(op, name string, err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		err = p.Err
	}
	return &fs.PathError{Op: op, Path: s.Where(name), Err: err}
}

// walk looks at every part of a name but the last: each must be a folder, and no link.
func (s *Store) walk(op, name string) error {
	if err := store.CheckName(name); err != nil {
		return err
	}
	for i := range len(name) {
		if name[i] != '/' {
			continue
		}
		st, err := s.root.Lstat(name[:i])
		if err != nil {
			return s.broken(op, name, err)
		}
		if !st.IsDir() {
			return s.broken(op, name[:i], store.ErrNotRegular)
		}
	}
	return nil
}

// Stat implements store.Store.
func (s *Store) Stat(_ context.Context, name string) (store.Entry, error) {
	if name == "" {
		return store.Entry{Folder: true}, nil
	}
	if err := s.walk("stat", name); err != nil {
		return store.Entry{}, err
	}
	st, err := s.root.Lstat(name)
	if err != nil {
		return store.Entry{}, s.broken("stat", name, err)
	}
	return entry(name, st), nil
}

func entry(name string, st fs.FileInfo) store.Entry {
	return store.Entry{Name: name, Bytes: st.Size(), Time: st.ModTime(), Folder: st.IsDir(), Foreign: !st.IsDir() &&
		!st.Mode().IsRegular()}
}

// open opens a regular file. A pipe or a device does not hold it up: it is looked at
// before, and opened without waiting in case it has just been put there.
func (s *Store) open(name string) (*os.File, error) {
	if err := s.walk("open", name); err != nil {
		return nil, err
	}
	st, err := s.root.Lstat(name)
	if err != nil {
		return nil, s.broken("open", name, err)
	}
	if !st.Mode().IsRegular() {
		return nil, s.broken("open", name, store.ErrNotRegular)
	}
	f, err := s.root.OpenFile(name, os.O_RDONLY|system.NoFollow|system.NoWait, 0)
	if err != nil {
		return nil, s.broken("open", name, err)
	}
	if st, err = f.Stat(); err == nil && !st.Mode().IsRegular() {
		err = store.ErrNotRegular
	}
	if err != nil {
		f.Close()
		return nil, s.broken("open", name, err)
	}
	return f, nil
}

// Open implements store.Store.
func (s *Store) Open(_ context.Context, name string, offset, length int64) (io.ReadCloser, error) {
	f, err := s.open(name)
	if err != nil {
		return nil, err
	}
	if offset > 0 {
		if _, err := f.Seek(offset, io.SeekStart); err != nil {
			f.Close()
			return nil, s.broken("seek", name, err)
		}
	}
	if length < 0 {
		return f, nil
	}
	return struct {
		io.Reader
		io.Closer
	}{io.LimitReader(f, length), f}, nil
}

// dir opens a folder.
func (s *Store) dir(name string) (*os.File, error) {
	if name == "" {
		return s.root.Open(".")
	}
	if err := s.walk("open", name); err != nil {
		return nil, err
	}
	st, err := s.root.Lstat(name)
	if err != nil {
		return nil, s.broken("open", name, err)
	}
	if !st.IsDir() {
		return nil, s.broken("open", name, store.ErrNotRegular)
	}
	f, err := s.root.OpenFile(name, os.O_RDONLY|system.NoFollow|system.FolderOnly, 0)
	if err != nil {
		return nil, s.broken("open", name, err)
	}
	return f, nil
}

// List implements store.Store.
func (s *Store) List(ctx context.Context, folder string, visit func(store.Entry) error) error {
	return s.each(ctx, folder, func(_ *os.File, e fs.DirEntry) error {
		name := path.Join(folder, e.Name())
		found := store.Entry{Name: name, Folder: e.IsDir(), Foreign: !e.IsDir() && !e.Type().IsRegular()}
		if !found.Folder {
			st, err := e.Info()
			if errors.Is(err, fs.ErrNotExist) {
				return nil // removed since
			}
			if err != nil {
				return s.broken("stat", name, err)
			}
			found.Bytes = st.Size()
		}
		return visit(found)
	})
}

// each visits what is right in a folder, sorted by name.
func (s *Store) each(ctx context.Context, folder string, visit func(d *os.File, e fs.DirEntry) error) error {
	d, err := s.dir(folder)
	if err != nil {
		return err
	}
	defer d.Close()
	list, err := d.ReadDir(-1)
	if err != nil {
		return s.broken("list", folder, err)
	}
	slices.SortFunc(list, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	for _, e := range list {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err := visit(d, e); err != nil {
			return err
		}
	}
	return nil
}

// Peek implements store.Peeker: one look at each folder.
func (s *Store) Peek(ctx context.Context, folder, name string, visit func(base string, e store.Entry) error) error {
	return s.each(ctx, folder, func(d *os.File, e fs.DirEntry) error {
		switch {
		case e.Type().IsRegular():
			return nil
		case !e.IsDir():
			return visit(e.Name(), store.Entry{Name: path.Join(folder, e.Name()), Foreign: true})
		}
		return s.peek(d, folder, e.Name(), name, visit)
	})
}

// makeFolders makes the folders above a name that is to be written.
func (s *Store) makeFolders(name string) error {
	if !system.Folders {
		return system.Unsynced()
	}
	for i := range len(name) {
		if name[i] != '/' {
			continue
		}
		err := s.root.Mkdir(name[:i], 0o700)
		if err != nil && !errors.Is(err, fs.ErrExist) {
			return s.broken("make", name[:i], err)
		}
		if err == nil {
			if err := s.syncFolder(path.Dir(name[:i])); err != nil {
				return err
			}
		}
	}
	return s.walk("create", name)
}

// newName begins the name that a file has until it is complete.
const newName = ".new-"

// Create implements store.Store.
func (s *Store) Create(_ context.Context, name string) (store.Writer, error) {
	if err := store.CheckName(name); err != nil {
		return nil, err
	}
	if err := s.makeFolders(name); err != nil {
		return nil, err
	}
	if _, err := s.root.Lstat(name); err == nil {
		return nil, s.broken("create", name, fs.ErrExist)
	}
	f, temp, err := s.temporary(name)
	if err != nil {
		return nil, err
	}
	return &writer{s: s, f: f, temp: temp, name: name}, nil
}

// temporary makes a file beside a name.
func (s *Store) temporary(name string) (*os.File, string, error) {
	for range 100 {
		temp := path.Join(path.Dir(name), newName+token())
		f, err := s.root.OpenFile(temp, os.O_CREATE|os.O_EXCL|os.O_WRONLY|system.NoFollow, 0o600)
		if err == nil {
			return f, temp, nil
		}
		if !errors.Is(err, fs.ErrExist) {
			return nil, "", s.broken("create", name, err)
		}
	}
	return nil, "", s.broken("create", name, fs.ErrExist)
}

// writer is a file under a temporary name.
type writer struct {
	s          *Store
	f          *os.File
	temp, name string
	over       bool // takes the place of what has the name
}

func (w *writer) Write(p []byte) (int, error) { return w.f.Write(p) }

// Hint tells the disk to begin with bytes that were written; Commit has less to wait for.
func (w *writer) Hint(offset, length int64) { hint(w.f, offset, length) }

// Commit implements store.Writer.
func (w *writer) Commit() error {
	err := fsync(w.f)
	if e := w.f.Close(); err == nil {
		err = e
	}
	if err == nil && w.over {
		err = w.s.root.Rename(w.temp, w.name)
	} else if err == nil {
		err = w.s.renameNew(w.temp, w.name)
	}
	if err != nil {
		return errors.Join(w.s.broken("write", w.name, err), w.s.root.Remove(w.temp))
	}
	return w.s.syncFolder(path.Dir(w.name))
}

// Abort implements store.Writer.
func (w *writer) Abort() error {
	return errors.Join(w.f.Close(), w.s.root.Remove(w.temp))
}

// Replace implements store.Replacer.
func (s *Store) Replace(_ context.Context, name string, data []byte) error {
	if err := store.CheckName(name); err != nil {
		return err
	}
	if err := s.makeFolders(name); err != nil {
		return err
	}
	if st, err := s.root.Lstat(name); err == nil && !st.Mode().IsRegular() {
		return s.broken("write", name, store.ErrNotRegular)
	}
	f, temp, err := s.temporary(name)
	if err != nil {
		return err
	}
	w := &writer{s: s, f: f, temp: temp, name: name, over: true}
	if _, err := w.Write(data); err != nil {
		return errors.Join(err, w.Abort())
	}
	return w.Commit()
}

// Remove implements store.Store.
func (s *Store) Remove(_ context.Context, name string) error {
	if !system.Folders {
		return system.Unsynced()
	}
	if err := s.walk("remove", name); err != nil {
		return err
	}
	if err := s.root.Remove(name); err != nil {
		return s.broken("remove", name, err)
	}
	return s.syncFolder(path.Dir(name))
}

// renameNew renames only if nothing has the new name.
func (s *Store) renameNew(from, to string) error {
	a, err := s.dirOf(from)
	if err != nil {
		return err
	}
	defer a.Close()
	b, err := s.dirOf(to)
	if err != nil {
		return err
	}
	defer b.Close()
	err = renameOnly(a, path.Base(from), b, path.Base(to))
	if errors.Is(err, syscall.EINVAL) || errors.Is(err, syscall.ENOSYS) {
		// A file system without it: the lease keeps other writers away.
		if _, e := s.root.Lstat(to); e == nil {
			return fs.ErrExist
		}
		return s.root.Rename(from, to)
	}
	if errors.Is(err, syscall.EEXIST) || errors.Is(err, syscall.ENOTEMPTY) {
		return fs.ErrExist
	}
	return err
}

func (s *Store) dirOf(name string) (*os.File, error) {
	if d := path.Dir(name); d != "." {
		return s.dir(d)
	}
	return s.dir("")
}

func (s *Store) syncFolder(name string) error {
	if name == "." {
		name = ""
	}
	f, err := s.dir(name)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := fsync(f); err != nil && !errors.Is(err, syscall.EINVAL) {
		return s.broken("sync", name, err) // EINVAL: a file system that does not sync folders
	}
	return nil
}

// Room implements store.Roomy.
func (s *Store) Room(context.Context) (free, total int64, err error) {
	return system.Room(s.path)
}

// Medium implements store.Placed.
func (s *Store) Medium() (medium string, away bool) { return system.Drive(s.path), false }

// SameDrive says whether a path of this machine lies on the folder's file system; known
// is false where that cannot be told.
func (s *Store) SameDrive(path string) (same, known bool) {
	return system.SameDrive(s.path, path)
}
