// Package retain decides which dumps stay and which may go. It looks at facts about dumps, and
// touches nothing.
package retain

import (
	"fmt"
	"slices"
	"sort"
	"time"

	"grainkeep/internal/phrase"
)

// Item is a dump as retention sees it.
type Item struct {
	ID     string
	Of     string // what it is a dump of: JOB/DATABASE
	Kind   string // full, differential, incremental
	Base   string // the ID of the dump that it builds on; empty for a full
	Closes bool   // it ends a chain, at the moment of the full with which the next one begins
	Moment time.Time
	Good   bool   // complete, readable, and not failed by a drill
	Proven bool   // by a drill
	Hold   string // why somebody holds it; empty: nobody does
}

// Verdict is what becomes of a dump, and why.
type Verdict struct {
	Item
	Stays bool
	Why   string
}

// Plan says of each dump whether it stays. Only good dumps count; the newest good one and the newest
// proven one always stay, and so does all that a dump that stays builds on. A phrase without
// clauses keeps everything. The verdicts are in the order of the items.
func Plan(r phrase.Retain, zone *time.Location, now time.Time, items []Item) []Verdict {
	verdicts := make([]Verdict, len(items))
	groups := map[string][]*Verdict{}
	var names []string
	for i, it := range items {
		verdicts[i].Item = it
		if groups[it.Of] == nil {
			names = append(names, it.Of)
		}
		groups[it.Of] = append(groups[it.Of], &verdicts[i])
	}
	for _, name := range names {
		planOne(r, zone, now, groups[name])
	}
	return verdicts
}

// keep notes the first reason why a dump stays.
func (v *Verdict) keep(format string, args ...any) {
	if !v.Stays {
		v.Stays, v.Why = true, fmt.Sprintf(format, args...)
	}
}

// planOne decides about the dumps of one database.
func planOne(r phrase.Retain, zone *time.Location, now time.Time, of []*Verdict) {
	newestFirst := slices.Clone(of)
	sort.SliceStable(newestFirst, func(i, j int) bool { return newestFirst[i].Moment.After(newestFirst[j].Moment) })
	var good []*Verdict // of those that are not in the future: what a wrong clock made takes nobody's place
	for _, v := range newestFirst {
		if v.Good && !v.Closes && !v.Moment.After(now) {
			good = append(good, v)
		}
	}
	for _, v := range newestFirst {
		switch {
		case v.Hold != "":
			v.keep("on hold: %s", v.Hold)
		case len(r.Clauses) == 0:
			v.keep("nothing is removed without a retain phrase")
		case v.Moment.After(now):
			v.keep("its moment is in the future")
		case len(good) == 0 || !v.Good && v.Moment.After(good[0].Moment):
			v.keep("no newer dump is good")
		}
	}
	for _, c := range r.Clauses {
		keepBy(c, zone, now, good)
	}
	if len(good) > 0 {
		good[0].keep("the newest good one")
	}
	if i := slices.IndexFunc(good, func(v *Verdict) bool { return v.Proven }); i >= 0 {
		good[i].keep("the newest proven one")
	}
	keepBases(of)
	keepClosings(of)
	for _, v := range of {
		switch {
		case v.Stays:
		case !v.Good:
			v.Why = "a drill failed it, and a newer one is good"
		default:
			v.Why = "no clause keeps it"
		}
	}
}

// keepBy keeps what a clause says of the good dumps, which are sorted newest first.
func keepBy(c phrase.RetainClause, zone *time.Location, now time.Time, good []*Verdict) {
	n, seen, from := 0, map[string]bool{}, c.Span.Before(now.In(zone))
	for _, v := range good {
		switch {
		case c.Newest > 0:
			if c.Kind != "" && v.Kind != c.Kind {
				continue
			}
			if n++; n <= c.Newest {
				v.keep("%s", c.Text)
			}
		case v.Moment.Before(from):
		case c.Every == "":
			v.keep("%s", c.Text)
		default:
			period := c.Every.Period(v.Moment.In(zone))
			if !seen[period] {
				v.keep("%s: the last of %s", c.Text, period)
			}
			seen[period] = true
		}
	}
}

// keepClosings keeps the dump that closes a chain as long as what it builds on: it takes no other's place.
func keepClosings(of []*Verdict) {
	for _, v := range of {
		i := slices.IndexFunc(of, func(b *Verdict) bool { return b.ID == v.Base })
		if v.Closes && !v.Stays && i >= 0 && of[i].Stays {
			v.keep("it closes the chain of %s", v.Base[:min(10, len(v.Base))])
		}
	}
}

// keepBases keeps what dumps that stay build on.
func keepBases(of []*Verdict) {
	byID := map[string]*Verdict{}
	for _, v := range of {
		byID[v.ID] = v
	}
	for _, v := range of {
		if !v.Stays {
			continue
		}
		for b := byID[v.Base]; b != nil && !b.Stays; b = byID[b.Base] {
			b.keep("%s builds on it", v.ID[:min(10, len(v.ID))])
		}
	}
}
