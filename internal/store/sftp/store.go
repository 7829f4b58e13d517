// Package sftp is the store whose files lie on another machine, reached over SFTP with keys. It follows no link: the
// server is asked where a name really is. A connection that is lost is opened again, and the work goes on where it was.
package sftp

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	client "github.com/pkg/sftp"

	"grainkeep/internal/fault"
	"grainkeep/internal/store"
)

func init() { store.Register("sftp", opener{}) }

type opener struct{}

// Open opens the store at user@host:port/path.
func (opener) Open(ctx context.Context, place string) (store.Store, error) {
	return open(ctx, place, false)
}

// Make makes the folder if need be; what is in it stays as it is.
func (opener) Make(ctx context.Context, place string) (store.Store, error) {
	return open(ctx, place, true)
}

// Store is a folder of another machine. Its methods may be called side by side.
type Store struct {
	at   *address
	root string // as the server has it, without links

	mu sync.Mutex
	c  *connection
}

func open(ctx context.Context, place string, makeIt bool) (*Store, error) {
	at, err := parseAddress(place)
	if err != nil {
		return nil, err
	}
	s := &Store{at: at, root: at.folder}
	err = s.do(ctx, func(c *connection) error {
		if makeIt {
			if err := c.MkdirAll(at.folder); err != nil {
				return err
			}
		}
		root, err := c.RealPath(at.folder)
		if err != nil {
			return err
		}
		st, err := c.Stat(root)
		if err != nil {
			return err
		}
		if !st.IsDir() {
			return store.ErrNotRegular
		}
		s.root = root
		return nil
	})
	if err != nil {
		return nil, s.broken("open", "", err)
	}
	return s, nil
}

// Where is a name's address.
func (s *Store) Where(name string) string { return s.at.where(name) }

// Medium implements store.Placed.
func (s *Store) Medium() (medium string, away bool) { return "host " + s.at.host, true }

// broken is an error about a name.
func (s *Store) broken(op, name string, err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		err = p.Err
	}
	return &fs.PathError{Op: op, Path: s.Where(name), Err: err}
}

// Close ends the connection.
func (s *Store) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.c != nil {
		s.c.close()
	}
	return nil
}

// connection gives the one that is open, or opens one.
func (s *Store) connection(ctx context.Context) (*connection, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.c != nil && !s.c.lost() {
		return s.c, nil
	}
	c, err := connect(ctx, s.at)
	if err == nil {
		s.c = c
	}
	return c, err
}

// tries is how often something is tried whose connection is lost; the waits between grow.
const (
	tries     = 6
	firstWait = 500 * time.Millisecond
)

// do does something on a connection, again where that is lost in the middle: it must bear that it was done already.
func (s *Store) do(ctx context.Context, work func(c *connection) error) error {
	for n, wait := 1, firstWait; ; n, wait = n+1, 2*wait {
		c, err := s.connection(ctx)
		if err == nil {
			if err = within(ctx, c, work); err == nil || !c.broken(err) {
				return err
			}
			c.close()
		} else if !s.met() || !fault.HasCode(err, "store-unreachable") { // it is the address that is wrong, or the key
			return err
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if n == tries {
			return err
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(wait):
		}
	}
}

// within ends the waiting for an answer where the work is to stop: then the connection goes.
func within(ctx context.Context, c *connection, work func(c *connection) error) error {
	stop := context.AfterFunc(ctx, c.close)
	defer stop()
	err := work(c)
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

// broken says whether an error is of the connection, and not an answer of the server's.
func (c *connection) broken(err error) bool {
	var status *client.StatusError
	if errors.As(err, &status) || errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) ||
		errors.Is(err, fs.ErrExist) || errors.Is(err, store.ErrNotRegular) || errors.Is(err, store.ErrSwapped) {
		return false
	}
	return c.lost() || errors.Is(err, client.ErrSSHFxConnectionLost) || errors.Is(err, io.EOF) ||
		errors.Is(err, io.ErrUnexpectedEOF)
}

// met says whether there was a connection before.
func (s *Store) met() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.c != nil
}

func (s *Store) full(name string) string {
	if name == "" {
		return s.root
	}
	return s.root + "/" + name
}

// straight fails where a folder on the way to a name is a link, or no folder.
func (s *Store) straight(c *connection, name string) error {
	if err := store.CheckName(name); err != nil {
		return err
	}
	above := path.Dir(name)
	if above == "." {
		return nil
	}
	real, err := c.RealPath(s.full(above))
	if err != nil {
		return err
	}
	if real != s.full(above) {
		return store.ErrNotRegular
	}
	return nil
}

func entry(name string, st os.FileInfo) store.Entry {
	return store.Entry{Name: name, Bytes: st.Size(), Time: st.ModTime(), Folder: st.IsDir(),
		Foreign: !st.IsDir() && !st.Mode().IsRegular()}
}

// Stat implements store.Store.
func (s *Store) Stat(ctx context.Context, name string) (e store.Entry, err error) {
	if name == "" {
		return store.Entry{Folder: true}, nil
	}
	err = s.do(ctx, func(c *connection) error {
		if err := s.straight(c, name); err != nil {
			return err
		}
		st, err := c.Lstat(s.full(name))
		if err == nil {
			e = entry(name, st)
		}
		return err
	})
	if err != nil {
		return e, s.broken("stat", name, err)
	}
	return e, nil
}

// List implements store.Store.
func (s *Store) List(ctx context.Context, folder string, visit func(store.Entry) error) error {
	list, err := s.read(ctx, folder)
	if err != nil {
		return err
	}
	for _, st := range list {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err := visit(entry(path.Join(folder, st.Name()), st)); err != nil {
			return err
		}
	}
	return nil
}

// read gives what is in a folder, sorted by name.
func (s *Store) read(ctx context.Context, folder string) (list []os.FileInfo, err error) {
	err = s.do(ctx, func(c *connection) error {
		if folder != "" {
			if err := s.straight(c, folder+"/x"); err != nil { // the folder itself must be none either
				return err
			}
		}
		list, err = c.ReadDirContext(ctx, s.full(folder))
		return err
	})
	if err != nil {
		return nil, s.broken("list", folder, err)
	}
	slices.SortFunc(list, func(a, b os.FileInfo) int { return strings.Compare(a.Name(), b.Name()) })
	return list, nil
}

// lookers is how many answers are waited for at one time.
const lookers = 32

// Peek implements store.Peeker: many looks are under way at one time.
func (s *Store) Peek(ctx context.Context, folder, name string, visit func(base string, e store.Entry) error) error {
	list, err := s.read(ctx, folder)
	if err != nil {
		return err
	}
	type answer struct {
		e   store.Entry
		err error
	}
	answers := make([]answer, len(list))
	turn := make(chan struct{}, lookers)
	var work sync.WaitGroup
	for i, st := range list {
		full := path.Join(folder, st.Name(), name)
		switch {
		case st.Mode().IsRegular():
			answers[i].err = fs.ErrNotExist
		case !st.IsDir():
			answers[i].e = store.Entry{Name: path.Join(folder, st.Name()), Foreign: true}
		case name == "":
			answers[i].e = entry(full, st)
		default:
			turn <- struct{}{}
			work.Go(func() {
				defer func() { <-turn }()
				answers[i].err = s.do(ctx, func(c *connection) error {
					st, err := c.Lstat(s.full(full))
					if err == nil {
						answers[i].e = entry(full, st)
					}
					return err
				})
			})
		}
	}
	work.Wait()
	for i, a := range answers {
		switch {
		case ctx.Err() != nil:
			return context.Cause(ctx)
		case errors.Is(a.err, fs.ErrNotExist):
			continue
		case a.err != nil:
			a.e = store.Entry{Name: path.Join(folder, list[i].Name(), name)} // whoever opens it is told why
		}
		if err := visit(list[i].Name(), a.e); err != nil {
			return err
		}
	}
	return nil
}

// makeFolders makes the folders above a name.
func (s *Store) makeFolders(c *connection, name string) error {
	above := path.Dir(name)
	if above == "." {
		return nil
	}
	if st, err := c.Lstat(s.full(above)); err == nil && st.IsDir() { // else the way is made, or is none
		return s.straight(c, name)
	}
	for i := 0; i <= len(above); i++ {
		if i < len(above) && above[i] != '/' {
			continue
		}
		if err := c.Mkdir(s.full(above[:i])); err != nil {
			st, e := c.Lstat(s.full(above[:i]))
			switch {
			case e != nil:
				return err
			case !st.IsDir():
				return store.ErrNotRegular
			}
			continue
		}
		if err := c.Chmod(s.full(above[:i]), 0o700); err != nil {
			return err
		}
	}
	return s.straight(c, name)
}

// newName begins the name that a file has until it is complete.
const newName = ".new-"

func token() string {
	var b [8]byte
	rand.Read(b[:])
	return hex.EncodeToString(b[:])
}

// Remove implements store.Store.
func (s *Store) Remove(ctx context.Context, name string) error {
	tried := false
	err := s.do(ctx, func(c *connection) error {
		if err := s.straight(c, name); err != nil {
			return err
		}
		err := c.Remove(s.full(name))
		if tried && errors.Is(err, fs.ErrNotExist) {
			return nil // that was the answer that was lost
		}
		tried = true
		return err
	})
	if err != nil {
		return s.broken("remove", name, err)
	}
	return nil
}

// Replace implements store.Replacer.
func (s *Store) Replace(ctx context.Context, name string, data []byte) error {
	return s.small(ctx, name, data, func(c *connection, temp string) error {
		if _, can := c.HasExtension("posix-rename@openssh.com"); can {
			return c.PosixRename(temp, s.full(name))
		}
		if err := c.Remove(s.full(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return c.Rename(temp, s.full(name))
	})
}

// small writes a small file under a name of its own, and brings it to where it belongs.
func (s *Store) small(ctx context.Context, name string, data []byte, place func(c *connection, temp string) error) error {
	if err := store.CheckName(name); err != nil {
		return err
	}
	err := s.do(ctx, func(c *connection) error {
		if err := s.makeFolders(c, name); err != nil {
			return err
		}
		temp := path.Dir(s.full(name)) + "/" + newName + token()
		f, err := c.OpenFile(temp, os.O_CREATE|os.O_EXCL|os.O_WRONLY)
		if err != nil {
			return err
		}
		_, err = f.Write(data)
		if err = errors.Join(err, f.Chmod(0o600), durable(c, f), f.Close()); err == nil {
			err = place(c, temp)
		}
		if err != nil {
			return errors.Join(err, store.IgnoreAbsent(c.Remove(temp)))
		}
		return nil
	})
	if err != nil && !errors.Is(err, store.ErrSwapped) {
		return s.broken("write", name, err)
	}
	return err
}

// durable has the server bring a file to its disk, if it can.
func durable(c *connection, f *client.File) error {
	if _, can := c.HasExtension("fsync@openssh.com"); !can {
		return nil
	}
	return f.Sync()
}

// renameNew renames only if nothing has the new name.
func renameNew(c *connection, from, to string) error {
	err := c.Rename(from, to) // which never replaces, by the protocol
	if err == nil {
		return nil
	}
	if _, e := c.Lstat(to); e == nil {
		return fs.ErrExist
	}
	return err
}

// Swap implements store.Swapper. What is taken over is moved aside first: of several who try, one can.
func (s *Store) Swap(ctx context.Context, name string, old, data []byte) error {
	return s.small(ctx, name, data, func(c *connection, temp string) (err error) {
		to := s.full(name)
		if old != nil {
			err = s.aside(c, to, old)
		}
		if err == nil {
			if err = renameNew(c, temp, to); errors.Is(err, fs.ErrExist) {
				err = store.ErrSwapped
			}
		}
		if errors.Is(err, store.ErrSwapped) { // perhaps by us, and the answer was lost
			if now, e := readSmall(c, to); e == nil && string(now) == string(data) {
				return c.Remove(temp)
			}
		}
		return err
	})
}

// aside takes a file away that holds what is expected.
func (s *Store) aside(c *connection, name string, old []byte) error {
	now, err := readSmall(c, name)
	if errors.Is(err, fs.ErrNotExist) || err == nil && string(now) != string(old) {
		return store.ErrSwapped
	}
	if err != nil {
		return err
	}
	sum := sha256.Sum256(old)
	gone := path.Dir(name) + "/" + newName + hex.EncodeToString(sum[:8])
	if err := renameNew(c, name, gone); err != nil {
		if errors.Is(err, fs.ErrExist) || errors.Is(err, fs.ErrNotExist) {
			return store.ErrSwapped
		}
		return err
	}
	if now, err = readSmall(c, gone); err == nil && string(now) != string(old) { // somebody came in between
		return errors.Join(store.ErrSwapped, renameNew(c, gone, name))
	}
	return c.Remove(gone)
}

const maxSmall = 64 << 10 // bytes

func readSmall(c *connection, name string) ([]byte, error) {
	f, err := c.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, maxSmall))
}

// Lease implements store.Leaser.
func (s *Store) Lease(ctx context.Context, name string) (store.Lease, error) {
	return store.LeaseByFile(ctx, s, name)
}

// Clock implements store.Swapper.
func (s *Store) Clock(ctx context.Context) (now time.Time, err error) {
	name := newName + token()
	err = s.do(ctx, func(c *connection) error {
		f, err := c.OpenFile(s.full(name), os.O_CREATE|os.O_WRONLY)
		if err != nil {
			return err
		}
		st, err := f.Stat()
		if err == nil {
			now = st.ModTime()
		}
		return errors.Join(err, f.Close(), c.Remove(s.full(name)))
	})
	if err != nil {
		return now, s.broken("write", name, err)
	}
	return now, nil
}

// Room implements store.Roomy.
func (s *Store) Room(ctx context.Context) (free, total int64, err error) {
	err = s.do(ctx, func(c *connection) error {
		if _, can := c.HasExtension("statvfs@openssh.com"); !can {
			return errors.ErrUnsupported
		}
		st, err := c.StatVFS(s.root)
		if err == nil {
			free, total = int64(st.Bavail*st.Frsize), int64(st.Blocks*st.Frsize)
		}
		return err
	})
	if err != nil && !errors.Is(err, errors.ErrUnsupported) {
		err = fmt.Errorf("the free space of %s cannot be read: %w", s.Where(""), err)
	}
	return free, total, err
}
