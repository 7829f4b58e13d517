package sftp

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"

	client "github.com/pkg/sftp"

	"grainkeep/internal/store"
)

// atOnce is how many bytes are under way at one time, in many requests: what is written is held until the server has
// it, so that it can be sent again.
const atOnce = 2 << 20

// Create implements store.Store. The file has a name of its own until it is complete.
func (s *Store) Create(ctx context.Context, name string) (store.Writer, error) {
	if err := store.CheckName(name); err != nil {
		return nil, err
	}
	w := &writer{ctx: ctx, s: s, name: name, buffer: make([]byte, 0, atOnce)}
	w.temp = path.Dir(s.full(name)) + "/" + newName + token()
	err := s.do(ctx, func(c *connection) error {
		if err := s.makeFolders(c, name); err != nil {
			return err
		}
		if _, err := c.Lstat(s.full(name)); err == nil {
			return fs.ErrExist
		} else if !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return w.open(c, os.O_CREATE|os.O_WRONLY)
	})
	if err != nil {
		return nil, s.broken("create", name, err)
	}
	return w, nil
}

// writer is a file under a name of its own.
type writer struct {
	ctx    context.Context
	s      *Store
	name   string
	temp   string
	c      *connection // of f
	f      *client.File
	at     int64 // bytes that the server has
	buffer []byte
}

func (w *writer) open(c *connection, flags int) (err error) {
	if w.f, err = c.OpenFile(w.temp, flags); err != nil {
		return err
	}
	w.c = c
	if flags&os.O_CREATE != 0 {
		err = w.f.Chmod(0o600)
	}
	return err
}

// on does something with the file, which is opened again where the connection is another one.
func (w *writer) on(work func() error) error {
	return w.s.do(w.ctx, func(c *connection) error {
		if c != w.c {
			if err := w.open(c, os.O_WRONLY); err != nil {
				return err
			}
		}
		return work()
	})
}

func (w *writer) Write(p []byte) (n int, err error) {
	for len(p) > 0 {
		room := min(len(p), cap(w.buffer)-len(w.buffer))
		w.buffer = append(w.buffer, p[:room]...)
		p, n = p[room:], n+room
		if len(w.buffer) == cap(w.buffer) {
			if err := w.flush(); err != nil {
				return n, err
			}
		}
	}
	return n, nil
}

func (w *writer) flush() error {
	if len(w.buffer) == 0 {
		return nil
	}
	err := w.on(func() error {
		_, err := w.f.WriteAt(w.buffer, w.at)
		return err
	})
	if err != nil {
		return w.s.broken("write", w.name, err)
	}
	w.at += int64(len(w.buffer))
	w.buffer = w.buffer[:0]
	return nil
}

// Commit implements store.Writer.
func (w *writer) Commit() error {
	err := w.flush()
	if err == nil {
		err = w.on(func() error {
			st, err := w.f.Stat()
			if err == nil && st.Size() != w.at {
				err = fmt.Errorf("the server has %d bytes of it, and %d were written", st.Size(), w.at)
			}
			if err == nil {
				err = durable(w.c, w.f)
			}
			return err
		})
	}
	if err == nil {
		err = w.s.do(w.ctx, func(c *connection) error {
			err := renameNew(c, w.temp, w.s.full(w.name))
			if err == nil {
				return nil
			}
			// The answer that was lost may have been that it is done.
			if _, e := c.Lstat(w.temp); errors.Is(e, fs.ErrNotExist) && !c.broken(err) {
				st, e := c.Lstat(w.s.full(w.name))
				if e == nil && st.Mode().IsRegular() && st.Size() == w.at {
					return nil
				}
			}
			return err
		})
	}
	if err != nil {
		return errors.Join(w.s.broken("write", w.name, err), w.Abort())
	}
	return w.f.Close()
}

// Abort implements store.Writer.
func (w *writer) Abort() error {
	_ = w.f.Close() // it goes
	// Also where the work was stopped: nothing is left half done.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(w.ctx), dialFor)
	defer cancel()
	return w.s.do(ctx, func(c *connection) error { return store.IgnoreAbsent(c.Remove(w.temp)) })
}

// Open implements store.Store.
func (s *Store) Open(ctx context.Context, name string, offset, length int64) (io.ReadCloser, error) {
	r := &reader{ctx: ctx, s: s, name: name, at: offset, left: length}
	err := s.do(ctx, func(c *connection) error {
		if err := s.straight(c, name); err != nil {
			return err
		}
		st, err := c.Lstat(s.full(name))
		if err == nil && !st.Mode().IsRegular() {
			err = store.ErrNotRegular
		}
		if err != nil {
			return err
		}
		r.size = st.Size()
		return r.open(c)
	})
	if err != nil {
		return nil, s.broken("open", name, err)
	}
	if length < 0 {
		r.left = max(0, r.size-offset)
	}
	return r, nil
}

// reader reads a file, and goes on where a connection was lost.
type reader struct {
	ctx    context.Context
	s      *Store
	name   string
	c      *connection // of f
	f      *client.File
	size   int64 // of the file, when it was opened
	at     int64 // in the file, behind the buffer
	left   int64 // that are wanted, behind the buffer
	buffer []byte
	held   []byte // of the buffer, what is not given yet
}

func (r *reader) open(c *connection) (err error) {
	r.f, err = c.Open(r.s.full(r.name))
	r.c = c
	return err
}

func (r *reader) Read(p []byte) (int, error) {
	if len(r.held) == 0 {
		if r.left == 0 {
			return 0, io.EOF
		}
		if err := r.fill(); err != nil {
			return 0, err
		}
	}
	n := copy(p, r.held)
	r.held = r.held[n:]
	return n, nil
}

// fill reads more, in many requests at one time.
func (r *reader) fill() error {
	if r.buffer == nil {
		r.buffer = make([]byte, min(atOnce, max(1, r.left)))
	}
	want := r.buffer[:min(int64(len(r.buffer)), r.left)]
	n := 0
	err := r.s.do(r.ctx, func(c *connection) (err error) {
		if c != r.c {
			if err := r.open(c); err != nil {
				return err
			}
		}
		n, err = r.f.ReadAt(want, r.at)
		if errors.Is(err, io.EOF) && !c.lost() {
			err = nil // the file ends here
		}
		return err
	})
	if err != nil {
		return r.s.broken("read", r.name, err)
	}
	if n == 0 {
		r.left = 0
		return io.EOF
	}
	r.at, r.left, r.held = r.at+int64(n), r.left-int64(n), want[:n]
	return nil
}

// Close implements io.Closer.
func (r *reader) Close() error {
	if r.c.lost() {
		return nil
	}
	return r.f.Close()
}
