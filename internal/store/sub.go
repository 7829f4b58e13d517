package store

import (
	"context"
	"io"
)

// Sub is the part of a store below one of its folders, for reading. Its names start
// there, and cannot lead out of it.
func Sub(s Store, folder string) Reader { return sub{s, folder} }

// Reader is the reading half of a Store.
type Reader interface {
	Open(ctx context.Context, name string, offset, length int64) (io.ReadCloser, error)
	Stat(ctx context.Context, name string) (Entry, error)
	List(ctx context.Context, folder string, visit func(Entry) error) error
	Where(name string) string
}

type sub struct {
	s      Store
	folder string
}

func (s sub) name(name string) (string, error) {
	if name == "" {
		return s.folder, nil
	}
	return join(s.folder, name), CheckName(name)
}

func join(folder, name string) string {
	if folder == "" {
		return name
	}
	return folder + "/" + name
}

func (s sub) Open(ctx context.Context, name string, offset, length int64) (io.ReadCloser, error) {
	full, err := s.name(name)
	if err != nil {
		return nil, err
	}
	return s.s.Open(ctx, full, offset, length)
}

func (s sub) Stat(ctx context.Context, name string) (Entry, error) {
	full, err := s.name(name)
	if err != nil {
		return Entry{}, err
	}
	e, err := s.s.Stat(ctx, full)
	e.Name = name
	return e, err
}

func (s sub) List(ctx context.Context, folder string, visit func(Entry) error) error {
	full, err := s.name(folder)
	if err != nil {
		return err
	}
	return s.s.List(ctx, full, func(e Entry) error {
		if s.folder != "" {
			e.Name = e.Name[len(s.folder)+1:]
		}
		return visit(e)
	})
}

func (s sub) Where(name string) string {
	if name == "" {
		return s.s.Where(s.folder)
	}
	return s.s.Where(join(s.folder, name))
}
