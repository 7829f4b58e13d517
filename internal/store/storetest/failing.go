// Package storetest has what tests need of stores: one that fails when it is told to.
package storetest

import (
	"context"
	"errors"
	"io"
	"sync"

	"grainkeep/internal/store"
	"grainkeep/internal/store/folder"
)

// ErrInjected is the failure of a Failing store.
var ErrInjected = errors.New("the store was told to fail")

// Failing is a folder whose n-th call of a kind fails. The kinds are open, read, stat,
// list, create, write, commit, remove, replace, stage, place, clear, lease, held, room.
type Failing struct {
	s *folder.Store

	mu    sync.Mutex
	kind  string
	at    int
	calls map[string]int
}

// New wraps a folder.
func New(s *folder.Store) *Failing { return &Failing{s: s, calls: map[string]int{}} }

// FailAt makes the n-th call of a kind from now on fail, counted from 1; 0: none.
func (f *Failing) FailAt(kind string, n int) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.kind, f.at, f.calls = kind, n, map[string]int{}
}

// Calls tells how many calls of each kind there were since FailAt.
func (f *Failing) Calls() map[string]int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.calls
}

func (f *Failing) call(kind string) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.calls[kind]++
	if kind == f.kind && f.calls[kind] == f.at {
		return ErrInjected
	}
	return nil
}

// Open implements store.Store.
func (f *Failing) Open(ctx context.Context, name string, offset, length int64) (io.ReadCloser, error) {
	if err := f.call("open"); err != nil {
		return nil, err
	}
	r, err := f.s.Open(ctx, name, offset, length)
	return &reader{r, f}, err
}

type reader struct {
	io.ReadCloser
	f *Failing
}

func (r *reader) Read(p []byte) (int, error) {
	if err := r.f.call("read"); err != nil {
		return 0, err
	}
	return r.ReadCloser.Read(p)
}

// Stat implements store.Store.
func (f *Failing) Stat(ctx context.Context, name string) (store.Entry, error) {
	if err := f.call("stat"); err != nil {
		return store.Entry{}, err
	}
	return f.s.Stat(ctx, name)
}

// List implements store.Store.
func (f *Failing) List(ctx context.Context, name string, visit func(store.Entry) error) error {
	if err := f.call("list"); err != nil {
		return err
	}
	return f.s.List(ctx, name, visit)
}

// Create implements store.Store.
func (f *Failing) Create(ctx context.Context, name string) (store.Writer, error) {
	if err := f.call("create"); err != nil {
		return nil, err
	}
	w, err := f.s.Create(ctx, name)
	return &writer{w, f}, err
}

type writer struct {
	store.Writer
	f *Failing
}

func (w *writer) Write(p []byte) (int, error) {
	if err := w.f.call("write"); err != nil {
		return 0, err
	}
	return w.Writer.Write(p)
}

func (w *writer) Commit() error {
	if err := w.f.call("commit"); err != nil {
		return errors.Join(err, w.Abort())
	}
	return w.Writer.Commit()
}

// Remove implements store.Store.
func (f *Failing) Remove(ctx context.Context, name string) error {
	if err := f.call("remove"); err != nil {
		return err
	}
	return f.s.Remove(ctx, name)
}

// Where implements store.Store.
func (f *Failing) Where(name string) string { return f.s.Where(name) }

// Room implements store.Roomy.
func (f *Failing) Room(ctx context.Context) (int64, int64, error) {
	if err := f.call("room"); err != nil {
		return 0, 0, err
	}
	return f.s.Room(ctx)
}

// Replace implements store.Replacer.
func (f *Failing) Replace(ctx context.Context, name string, data []byte) error {
	if err := f.call("replace"); err != nil {
		return err
	}
	return f.s.Replace(ctx, name, data)
}

// Stage implements store.Stager.
func (f *Failing) Stage(ctx context.Context, name string) (store.Stage, error) {
	if err := f.call("stage"); err != nil {
		return nil, err
	}
	s, err := f.s.Stage(ctx, name)
	return &stage{s, f}, err
}

// Clear implements store.Stager.
func (f *Failing) Clear(ctx context.Context, name string) error {
	if err := f.call("clear"); err != nil {
		return err
	}
	return f.s.Clear(ctx, name)
}

type stage struct {
	store.Stage
	f *Failing
}

func (s *stage) Create(ctx context.Context, name string) (store.Writer, error) {
	if err := s.f.call("create"); err != nil {
		return nil, err
	}
	w, err := s.Stage.Create(ctx, name)
	return &writer{w, s.f}, err
}

func (s *stage) Stat(ctx context.Context, name string) (store.Entry, error) {
	if err := s.f.call("stat"); err != nil {
		return store.Entry{}, err
	}
	return s.Stage.Stat(ctx, name)
}

func (s *stage) Place(ctx context.Context, from, to string) error {
	if err := s.f.call("place"); err != nil {
		return err
	}
	return s.Stage.Place(ctx, from, to)
}

// Lease implements store.Leaser.
func (f *Failing) Lease(ctx context.Context, name string) (store.Lease, error) {
	if err := f.call("lease"); err != nil {
		return nil, err
	}
	l, err := f.s.Lease(ctx, name)
	if err != nil {
		return nil, err
	}
	return &lease{l, f}, nil
}

type lease struct {
	store.Lease
	f *Failing
}

func (l *lease) Held() error {
	if err := l.f.call("held"); err != nil {
		return err
	}
	return l.Lease.Held()
}
