package store

import (
	"context"
	"errors"
	"strings"
)

// Opener makes and opens the stores of one kind. What is after the scheme is its own.
type Opener interface {
	// Open opens the store at a place; fs.ErrNotExist if there is none.
	Open(ctx context.Context, place string) (Store, error)
	// Make makes the place if need be, and opens it.
	Make(ctx context.Context, place string) (Store, error)
}

var openers = map[string]Opener{}

// Register adds a kind of store by the scheme of its URLs; "file" is also what a
// plain path means. It is called from the imports of main and of tests only.
func Register(scheme string, o Opener) { openers[scheme] = o }

// find gives the opener of a place, and the place as that writes it.
func find(place string) (Opener, string, error) {
	scheme, rest := "file", place
	if s, r, ok := strings.Cut(place, "://"); ok && !strings.ContainsAny(s, "/.") {
		scheme, rest = s, r
	}
	o, ok := openers[scheme]
	if !ok {
		return nil, "", errors.New("there is no kind of store " + scheme)
	}
	return o, rest, nil
}

// Open opens the store at a path or a URL.
func Open(ctx context.Context, place string) (Store, error) {
	o, rest, err := find(place)
	if err != nil {
		return nil, err
	}
	return o.Open(ctx, rest)
}

// Make makes the place if need be, and opens the store there.
func Make(ctx context.Context, place string) (Store, error) {
	o, rest, err := find(place)
	if err != nil {
		return nil, err
	}
	return o.Make(ctx, rest)
}
