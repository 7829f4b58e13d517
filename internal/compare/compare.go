// Package compare says what two states of a database have that differs: two dumps, two moments, or a dump and the live
// database. Objects are compared by their definitions, tables by their fingerprints: no row is looked at twice.
package compare

import (
	"context"
	"slices"
	"sort"
	"strings"

	"grainkeep/internal/chain"
	"grainkeep/internal/drill"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/payload"
	"grainkeep/internal/rows"
)

// State is a database at one moment.
type State struct {
	Title   string // as people name it
	Engine  string
	Objects []engine.Object
	Tables  []Table
}

// Table is what is known of a table's rows.
type Table struct {
	ID      string
	Columns []string
	Rows    int64
	Sum     string // fingerprint; empty: not known
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
	Unknown []string     `json:"unknown"` // tables of which the fingerprint is not known, and that have as many rows as before
	Same    int          `json:"same"`    // tables that are the same
}

// Dump is the state that a plan ends with. A moment inside a dump, which the log tells of, has no fingerprints.
func Dump(ctx context.Context, p *chain.Plan) (*State, error) {
	if p.Stop != nil {
		return nil, fault.Wrong("moment-inside", "that moment lies between two dumps, of which fingerprints are known").
			Advise("name the moment of a dump: 'grainkeep list --all' shows them; or restore it and compare with the database")
	}
	if err := p.Whole(ctx); err != nil {
		return nil, err
	}
	parts, err := payload.NewChain(p.Dumps())
	if err != nil {
		return nil, err
	}
	d := p.Last()
	s := &State{Title: d.Name() + " (" + d.Short() + ")", Engine: d.Manifest.Source.Engine}
	if s.Objects, err = parts.Structure.Objects(ctx); err != nil {
		return nil, err
	}
	for _, t := range d.Manifest.Tables() {
		sum := t.Sum
		if t.About || t.Condition != "" {
			sum = ""
		}
		s.Tables = append(s.Tables, Table{t.ID, t.Columns, t.Rows, sum})
	}
	return s, nil
}

// Live is the state of a database now: every row of it is read once, in one snapshot.
func Live(ctx context.Context, at engine.Location, database string, feed *event.Feed) (*State, error) {
	src, err := engine.Open(ctx, at)
	if err != nil {
		return nil, err
	}
	defer src.Close()
	snap, err := src.Snapshot(ctx, database)
	if err != nil {
		return nil, err
	}
	defer snap.Close()
	cat := snap.Catalog()
	feed.Gauge().Begin("reading "+database, len(cat.Tables), 0)
	found, err := rows.Scan(ctx, rows.Scanning{Snapshot: snap, Catalog: cat, Meter: feed.Gauge(),
		Samples: func(int) int64 { return 0 }})
	if err != nil {
		return nil, err
	}
	s := &State{Title: database + " now", Engine: at.Engine, Objects: cat.Objects}
	for i, t := range cat.Tables {
		s.Tables = append(s.Tables, Table{t.ID, t.Columns, found[i].Rows, found[i].Sum.String()})
	}
	return s, nil
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
