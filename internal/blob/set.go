package blob

import (
	"context"
	"slices"
	"strings"
	"sync"

	"grainkeep/internal/store"
)

// Creator begins files: a store, a stage of one, or a part of either.
type Creator interface {
	Create(ctx context.Context, name string) (store.Writer, error)
}

// Set collects the files of one dump. Its methods may be called side by side.
type Set struct {
	to    Creator
	guard Guard

	mu    sync.Mutex
	files []Info
}

// NewSet gives an empty set whose files go to a place. The guard may be nil.
func NewSet(to Creator, guard Guard) *Set { return &Set{to: to, guard: guard} }

// Create begins a file of the set; it belongs to it once it is closed without an error.
func (s *Set) Create(ctx context.Context, path string, c Compression) (*File, error) {
	w, err := s.to.Create(ctx, path)
	if err != nil {
		return nil, err
	}
	f := New(w, c, s.guard)
	f.info.Path = path
	f.done = func(i Info) {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.files = append(s.files, i)
	}
	return f, nil
}

// Write makes a file of some pieces of text.
func (s *Set) Write(ctx context.Context, path string, c Compression, pieces ...string) error {
	f, err := s.Create(ctx, path, c)
	if err != nil {
		return err
	}
	for _, p := range pieces {
		if _, err = f.Write([]byte(p)); err != nil {
			break
		}
	}
	_, err = f.Close(err)
	return err
}

// Files gives the finished files, sorted by path.
func (s *Set) Files() []Info {
	s.mu.Lock()
	defer s.mu.Unlock()
	list := slices.Clone(s.files)
	slices.SortFunc(list, func(a, b Info) int { return strings.Compare(a.Path, b.Path) })
	return list
}
