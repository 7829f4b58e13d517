// Package dump takes dumps: source → snapshot → files → manifest → in place.
package dump

import (
	"fmt"
	"slices"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/phrase"
)

// Choice is what a job wants of a source.
type Choice struct {
	Databases []string // names and patterns, each of which must match; empty: all but system ones
	Optional  []string // those that need not match
	Except    []string // those that are left out
}

// Everything is the entry of a job that names none.
const Everything = "*"

// Match is what one entry of a choice matches.
type Match struct {
	Entry     string   `json:"entry"`
	Optional  bool     `json:"optional,omitempty"`
	Databases []string `json:"databases"`
}

// Plan is what a run will dump, and why.
type Plan struct {
	Matches   []Match
	Databases []engine.Database // each once, sorted by name
	LeftOut   []string          // matched, but excepted
	Passed    []engine.Database // patterns would take them, but only their literal names do
}

// Why says why a database is left out that a pattern would take; empty for one that
// everybody expects to be.
func Why(d engine.Database) string {
	switch {
	case d.Odd != "":
		return d.Odd
	case engine.MovedAside(d.Name):
		return "a restore moved it aside"
	}
	return ""
}

// Choose matches a choice with what is there. System databases match only their
// literal names. It fails when an entry that must match does not.
func Choose(c Choice, there []engine.Database) (*Plan, error) {
	p := &Plan{}
	entries := c.Databases
	if len(entries) == 0 && len(c.Optional) == 0 {
		entries = []string{Everything}
	}
	taken := map[string]bool{}
	match := func(entry string, optional bool) {
		m := Match{Entry: entry, Optional: optional, Databases: []string{}}
		for _, d := range there {
			if d.Name != entry && (d.System || !phrase.Match(entry, d.Name)) {
				continue
			}
			if d.Name != entry && Why(d) != "" {
				p.pass(d, c)
				continue
			}
			if matchesAny(c.Except, d.Name) {
				if !slices.Contains(p.LeftOut, d.Name) {
					p.LeftOut = append(p.LeftOut, d.Name)
				}
				continue
			}
			m.Databases = append(m.Databases, d.Name)
			taken[d.Name] = true
		}
		p.Matches = append(p.Matches, m)
	}
	for _, e := range entries {
		match(e, false)
	}
	for _, e := range c.Optional {
		match(e, true)
	}
	for _, d := range there {
		if taken[d.Name] {
			p.Databases = append(p.Databases, d)
		}
	}
	return p, p.check(there)
}

// pass notes a database that no literal name takes.
func (p *Plan) pass(d engine.Database, c Choice) {
	named := slices.Concat(c.Databases, c.Optional)
	known := slices.ContainsFunc(p.Passed, func(x engine.Database) bool { return x.Name == d.Name })
	if !known && !slices.Contains(named, d.Name) && !matchesAny(c.Except, d.Name) {
		p.Passed = append(p.Passed, d)
	}
}

// open says whether the choice means databases that it does not name.
func (c Choice) open() bool {
	return len(c.Databases)+len(c.Optional) == 0 ||
		slices.ContainsFunc(slices.Concat(c.Databases, c.Optional), phrase.HasPattern)
}

func matchesAny(patterns []string, name string) bool {
	return slices.ContainsFunc(patterns, func(e string) bool { return e == name || phrase.Match(e, name) })
}

func (p *Plan) check(there []engine.Database) error {
	for _, m := range p.Matches {
		if m.Optional || len(m.Databases) > 0 {
			continue
		}
		var names []string
		for _, d := range there {
			if !d.System {
				names = append(names, d.Name)
			}
		}
		e := fault.New("nothing-matched", nil, "the entry %q of databases matches nothing", m.Entry)
		switch {
		case len(names) == 0:
			return e.Advise("the source has no databases that this user can see")
		case len(p.LeftOut) > 0:
			return e.Advise("all that it matches is left out by except (%s)", strings.Join(p.LeftOut, ", "))
		}
		for _, d := range p.Passed {
			if phrase.Match(m.Entry, d.Name) {
				return e.Advise("%s is left out: %s", d.Name, Why(d))
			}
		}
		return e.Advise("the source has: %s; an entry that need not match goes into optional", list(names, 12))
	}
	if len(p.Databases) == 0 {
		return fault.New("nothing-matched", nil, "the job matches no database at all").
			Advise("a run that dumps nothing is a failure; check its entries with 'grainkeep survey'")
	}
	return nil
}

// Narrow keeps only the named databases, each of which must be in the plan.
func (p *Plan) Narrow(names []string) error {
	if len(names) == 0 {
		return nil
	}
	for _, n := range names {
		if !slices.ContainsFunc(p.Databases, func(d engine.Database) bool { return d.Name == n }) {
			var have []string
			for _, d := range p.Databases {
				have = append(have, d.Name)
			}
			return fault.Wrong("not-in-job", "the job does not take a database %q", n).Advise("it takes: %s",
				list(have, 12))
		}
	}
	p.Databases = slices.DeleteFunc(p.Databases, func(d engine.Database) bool {
		return !slices.Contains(names, d.Name)
	})
	return nil
}

func list(names []string, most int) string {
	if len(names) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
	}
	return strings.Join(names, ", ")
}
