// Package compare says what two states of a database have that differs: two dumps, two moments, or a dump and the live
// database. Objects are compared by their definitions, tables by their fingerprints. Which rows differ is asked for apart,
// and read only of tables whose fingerprints do.
package compare

import (
	"context"
	"errors"
	"slices"
	"sort"
	"strings"

	"grainkeep/internal/ask"
	"grainkeep/internal/chain"
	"grainkeep/internal/drill"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
	"grainkeep/internal/payload"
	"grainkeep/internal/rows"
)

// State is a database at one moment.
type State struct {
	Title   string // as people name it
	Engine  string
	Objects []engine.Object
	Tables  []Table

	plan *chain.Plan     // of a dump
	snap engine.Snapshot // of a live database
	src  engine.Source
}

// Close ends the snapshot of a live database.
func (s *State) Close() error {
	if s.snap == nil {
		return nil
	}
	return errors.Join(s.snap.Close(), s.src.Close())
}

// Ask begins to read the rows of a state, in a temporary database that takes so many bytes at most. It is to be closed.
func (s *State) Ask(ctx context.Context, room int64, feed *event.Feed) (a *ask.Session, err error) {
	if s.snap != nil {
		a, err = ask.Live(ctx, s.snap, s.Engine, room, feed)
	} else {
		a, err = ask.Open(ctx, s.plan, room, feed)
	}
	if err == nil {
		if err = a.Exact(ctx); err != nil {
			err = errors.Join(err, a.Close())
		}
	}
	return a, err
}

// Table is what is known of a table's rows.
type Table struct {
	ID      string
	Columns []string
	Rows    int64
	Sum     string // fingerprint; empty: not known
	Inside  bool   // it is as it was between two dumps: how many rows it has is not known either
}

// How something differs.
const (
	Added   = "added"
	Removed = "removed"
	Changed = "changed"
)

// Difference is an object, or the rows of a table, that differ.
type Difference struct {
	How  string `json:"how"`
	Of   string `json:"of"`
	Was  string `json:"was,omitempty"` // a definition
	Is   string `json:"is,omitempty"`
	Rows *Rows  `json:"rows,omitempty"`

	Which *TableRows `json:"which,omitempty"` // of the rows, where that was asked for
}

// Rows are how many a table had, and has.
type Rows struct {
	Was int64 `json:"was"`
	Is  int64 `json:"is"`
}

// Result is what differs, and what could not be told.
type Result struct {
	Objects []Difference `json:"objects"`
	Tables  []Difference `json:"tables"`
	// Unknown are tables of which the fingerprint is not known, and that have as many rows as before, or are at a moment
	// between two dumps.
	Unknown []string `json:"unknown"`
	Same    int      `json:"same"` // tables that are the same
}

// Dump is the state that a plan ends with. A moment inside a dump, which the log tells of, has no fingerprints.
func Dump(ctx context.Context, p *chain.Plan) (*State, error) {
	if err := p.Whole(ctx); err != nil {
		return nil, err
	}
	parts, err := payload.NewChain(p.Dumps())
	if err != nil {
		return nil, err
	}
	d := p.Last()
	s := &State{Title: d.Name() + " (" + d.Short() + ")", Engine: d.Manifest.Source.Engine, plan: p}
	if s.Objects, err = parts.Structure.Objects(ctx); err != nil {
		return nil, err
	}
	for _, t := range d.Manifest.Tables() {
		sum := t.Sum
		if t.About || t.Condition != "" {
			sum = ""
		}
		s.Tables = append(s.Tables, Table{t.ID, t.Columns, t.Rows, sum, p.Stop != nil && t.Change != manifest.Unchanged})
	}
	return s, nil
}

// Live is the state of a database now: every row of it is read once, in one snapshot, which stays until Close.
func Live(ctx context.Context, at engine.Location, database string, feed *event.Feed) (*State, error) {
	src, err := engine.Open(ctx, at)
	if err != nil {
		return nil, err
	}
	snap, err := src.Snapshot(ctx, database)
	if err != nil {
		return nil, errors.Join(err, src.Close())
	}
	s := &State{Title: database + " now", Engine: at.Engine, snap: snap, src: src}
	if err := s.read(ctx, database, feed); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

// read reads the fingerprints of a live database.
func (s *State) read(ctx context.Context, database string, feed *event.Feed) error {
	cat := s.snap.Catalog()
	feed.Gauge().Begin("reading "+database, len(cat.Tables), 0)
	found, err := rows.Scan(ctx, rows.Scanning{Snapshot: s.snap, Catalog: cat, Meter: feed.Gauge(),
		Samples: func(int) int64 { return 0 }})
	if err != nil {
		return err
	}
	s.Objects = cat.Objects
	for i, t := range cat.Tables {
		s.Tables = append(s.Tables, Table{t.ID, t.Columns, found[i].Rows, found[i].Sum.String(), false})
	}
	return nil
}

// States says what differs between two.
func States(was, is *State) (*Result, error) {
	if was.Engine != is.Engine {
		return nil, fault.Wrong("engine-differs", "%s is of %s, and %s of %s", was.Title, was.Engine, is.Title, is.Engine)
	}
	r := &Result{Objects: []Difference{}, Tables: []Difference{}, Unknown: []string{}}
	r.objects(was.Objects, is.Objects)
	r.tables(was.Tables, is.Tables)
	return r, nil
}

func (r *Result) objects(was, is []engine.Object) {
	now := map[string]engine.Object{}
	for _, o := range is {
		now[o.ID()] = o
	}
	for _, o := range was {
		n, there := now[o.ID()]
		delete(now, o.ID())
		switch {
		case !there:
			r.Objects = append(r.Objects, Difference{How: Removed, Of: o.ID(), Was: strings.TrimSpace(o.SQL)})
		case !alike(o, n):
			r.Objects = append(r.Objects, Difference{How: Changed, Of: o.ID(), Was: strings.TrimSpace(o.SQL),
				Is: strings.TrimSpace(n.SQL)})
		}
	}
	for id, o := range now {
		r.Objects = append(r.Objects, Difference{How: Added, Of: id, Is: strings.TrimSpace(o.SQL)})
	}
	sort.SliceStable(r.Objects, func(i, j int) bool { return r.Objects[i].Of < r.Objects[j].Of })
}

// alike says whether two definitions say the same.
func alike(a, b engine.Object) bool {
	return a.SQL == b.SQL || drill.Canonical(a.SQL) == drill.Canonical(b.SQL)
}

func (r *Result) tables(was, is []Table) {
	now := map[string]Table{}
	for _, t := range is {
		now[t.ID] = t
	}
	for _, t := range was {
		n, there := now[t.ID]
		delete(now, t.ID)
		counts := &Rows{t.Rows, n.Rows}
		switch {
		case !there:
			r.Tables = append(r.Tables, Difference{How: Removed, Of: t.ID, Rows: counts})
		case t.Inside || n.Inside:
			r.Unknown = append(r.Unknown, t.ID)
		case t.Rows != n.Rows, t.Sum != n.Sum && t.Sum != "" && n.Sum != "", !slices.Equal(t.Columns, n.Columns):
			r.Tables = append(r.Tables, Difference{How: Changed, Of: t.ID, Rows: counts})
		case t.Sum == "" || n.Sum == "":
			r.Unknown = append(r.Unknown, t.ID)
		default:
			r.Same++
		}
	}
	for id, t := range now {
		r.Tables = append(r.Tables, Difference{How: Added, Of: id, Rows: &Rows{0, t.Rows}})
	}
	sort.SliceStable(r.Tables, func(i, j int) bool { return r.Tables[i].Of < r.Tables[j].Of })
}
