package engine

import (
	"context"
	"database/sql"
	"errors"
	"sort"
	"strings"

	"grainkeep/internal/fault"
)

var drivers = map[string]Driver{}

// Register adds an engine. It is called from main's imports only.
func Register(name string, d Driver) { drivers[name] = d }

// Names lists the registered engines, sorted.
func Names() []string {
	var names []string
	for n := range drivers {
		names = append(names, n)
	}
	sort.Strings(names)
	return names
}

// others are names that people give engines too.
var others = map[string]string{"mariadb": "mysql", "postgresql": "postgres"}

// Meant gives the name of the engine that a word means: the word itself, where it means no other.
func Meant(word string) string {
	if name, ok := others[word]; ok {
		return name
	}
	return word
}

// Find gives the engine of a name.
func Find(name string) (Driver, error) {
	d, ok := drivers[name]
	if !ok {
		return nil, fault.Wrong("engine-unknown", "there is no engine %q", name).
			Advise("the engines are: %s", strings.Join(Names(), ", "))
	}
	return d, nil
}

// Open connects to a source through its engine.
func Open(ctx context.Context, at Location) (Source, error) {
	d, err := Find(at.Engine)
	if err != nil {
		return nil, err
	}
	if at.CA != "" && at.TLS != "verify" {
		return nil, fault.Wrong("ca-unused", "a file of certificates (ca) is given for %s, and tls is not \"verify\": "+
			"nothing would be checked with it", at.Server).Advise("write tls = \"verify\", or leave ca out")
	}
	return d.Open(ctx, at)
}

// SQLOpener is an engine whose databases can hold tables of ours: a journal that machines share.
type SQLOpener interface {
	OpenSQL(ctx context.Context, at Location) (*sql.DB, error)
}

// OpenSQL opens the database that a location names.
func OpenSQL(ctx context.Context, at Location) (*sql.DB, error) {
	d, err := Find(at.Engine)
	if err != nil {
		return nil, err
	}
	o, ok := d.(SQLOpener)
	if !ok {
		return nil, errors.New("a journal cannot be in a database of the engine " + at.Engine)
	}
	return o.OpenSQL(ctx, at)
}
