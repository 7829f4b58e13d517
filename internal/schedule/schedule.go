// Package schedule says what of the jobs is due when, and why. It starts nothing.
package schedule

import (
	"sort"
	"strings"
	"time"

	"grainkeep/internal/phrase"
)

// What is due.
type What string

// What can be due. A copy or a drill that is due together with a dump comes after it.
const (
	Full         What = "full dump"
	Differential What = "differential dump"
	Incremental  What = "incremental dump"
	Copy         What = "copy"
	Drill        What = "drill"
	Verify       What = "verify"
	Refresh      What = "refresh" // its job is the name of the refresh
	Standby      What = "standby" // its job is the name of the standby
)

// order is that in which things are done that are due at one instant: of dumps, the largest first.
var order = map[What]int{Full: 0, Differential: 1, Incremental: 2, Copy: 3, Drill: 4, Verify: 5, Refresh: 6, Standby: 7}

// Beside says whether it is no job's: its name is one of its own.
func (w What) Beside() bool { return w == Refresh || w == Standby }

// Dump says whether it is a dump that is due.
func (w What) Dump() bool { return order[w] <= order[Incremental] }

// Command is the program's command that does it.
func (w What) Command() string {
	if w.Dump() {
		return "dump"
	}
	return string(w)
}

// Kind is that of the dump that is due; empty: it is none.
func (w What) Kind() string {
	kind, _, is := strings.Cut(string(w), " dump")
	if !is {
		return ""
	}
	return kind
}

// Plan is when something of a job is due.
type Plan struct {
	Job  string
	What What
	When []*phrase.Schedule // any of them

	CatchUp time.Duration // how late a missed one is made up for
	Spread  time.Duration // its start is delayed by up to that
}

// Due is something at its time.
type Due struct {
	At   time.Time
	Job  string
	What What
	Why  string

	Called bool // somebody asked for it
}

// Last tells when something of a job was done last; the zero time: never.
type Last func(job string, what What) time.Time

// Next gives the next things that are due after an instant, at most n, in their order.
func Next(plans []Plan, last Last, after time.Time, zone *time.Location, n int) []Due {
	var all []Due
	for _, p := range plans {
		done := last(p.Job, p.What)
		at := after
		for range n {
			next := p.next(at, zone)
			if next.IsZero() {
				break
			}
			all = append(all, Due{At: next, Job: p.Job, What: p.What, Why: why(p.What, done, next)})
			at, done = next, next
		}
	}
	sort.SliceStable(all, func(i, j int) bool {
		a, b := all[i], all[j]
		switch {
		case !a.At.Equal(b.At):
			return a.At.Before(b.At)
		case a.Job != b.Job:
			return a.Job < b.Job
		}
		return order[a.What] < order[b.What]
	})
	return all[:min(n, len(all))]
}

// next is the first time that any phrase says.
func (p Plan) next(after time.Time, zone *time.Location) (first time.Time) {
	for _, s := range p.When {
		if at := s.Next(after, zone); !at.IsZero() && (first.IsZero() || at.Before(first)) {
			first = at
		}
	}
	return first
}

func why(what What, last, next time.Time) string {
	switch {
	case last.IsZero() && what == Full:
		return "none yet in this keep"
	case last.IsZero():
		return "none yet"
	}
	if last.After(next) {
		return "the one before is of the future: look at the clock"
	}
	return phrase.About(next.Sub(last)) + " after the one before"
}
