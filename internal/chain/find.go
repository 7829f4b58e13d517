// Package chain knows which dumps a name and a moment mean, and what a moment
// needs.
package chain

import (
	"slices"
	"sort"
	"strings"
	"time"

	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/pattern"
	"grainkeep/internal/phrase"
)

var idPattern = pattern.Of(`^[0-9a-f]{4,64}$`)

// Find gives the dumps that a name means: one for JOB/DATABASE or an id; for JOB,
// all of the newest run that is complete. The moment at may be empty: the newest.
// Where a dump that cannot be read is the one that is meant, or may be, that is the
// error: an older one is never taken in its place.
func Find(dumps []*keep.Dump, name, at string, now time.Time) ([]*keep.Dump, error) {
	dumps = slices.Clone(dumps)
	keep.Sort(dumps) // they may be of several keeps
	job, database, one := strings.Cut(name, "/")
	of := slices.DeleteFunc(slices.Clone(dumps), func(d *keep.Dump) bool {
		return !d.MayBeOf(job, database) || d.Manifest != nil && d.Manifest.Closes != "" // the full of its moment is meant
	})
	good, bad := split(of)
	if len(good) == 0 {
		readable, _ := split(dumps)
		switch {
		case len(bad) > 0:
			return nil, unreadable(bad[len(bad)-1], name)
		case !one && idPattern().MatchString(name):
			return byID(readable, name, at)
		case one && len(jobOnly(readable, job)) > 0:
			return nil, nothing(jobOnly(readable, job), "database", name)
		}
		return nil, nothing(readable, "job", job)
	}
	if !one {
		return wholeRun(good, bad, at, now)
	}
	d, err := pick(good, bad, name, at, now)
	if err != nil {
		return nil, err
	}
	return []*keep.Dump{d}, nil
}

// split parts the dumps that can be read from those that cannot.
func split(dumps []*keep.Dump) (good, bad []*keep.Dump) {
	for _, d := range dumps {
		if d.Manifest == nil {
			bad = append(bad, d)
		} else {
			good = append(good, d)
		}
	}
	return good, bad
}

// unreadable says that what is meant cannot be read.
func unreadable(d *keep.Dump, name string) error {
	f := fault.Of(d.Err)
	return fault.New("newest-unreadable", nil,
		"%s: %s is, or may be, the one that is meant, and it cannot be used: %s", name, d.Path(), f.Error()).
		Exit(f.Class).Advise("an older dump is not taken in its place by itself: 'grainkeep list' shows them; " +
		"name one by its id")
}

// newer gives the newest dump that cannot be read and may lie between what was chosen and
// the moment that was asked for; until may be zero: now.
func newer(bad []*keep.Dump, chosen *keep.Dump, until time.Time) *keep.Dump {
	for i := len(bad) - 1; i >= 0; i-- {
		when := bad[i].When() // the end of its second
		early := until.IsZero() || !when.Truncate(time.Second).After(until)
		late := chosen == nil || when.After(chosen.Manifest.Moment)
		if when.IsZero() || early && late {
			return bad[i]
		}
	}
	return nil
}

func jobOnly(dumps []*keep.Dump, job string) []*keep.Dump {
	return slices.DeleteFunc(slices.Clone(dumps), func(d *keep.Dump) bool { return d.Manifest.Job != job })
}

func byID(dumps []*keep.Dump, prefix, at string) ([]*keep.Dump, error) {
	if at != "" {
		return nil, fault.Wrong("moment-needless", "an id means one dump; --at does not go with it")
	}
	hits := slices.DeleteFunc(slices.Clone(dumps), func(d *keep.Dump) bool { return !strings.HasPrefix(d.ID, prefix) })
	hits = slices.CompactFunc(hits, func(a, b *keep.Dump) bool { return a.ID == b.ID })
	switch len(hits) {
	case 0:
		return nil, nothing(dumps, "dump", prefix)
	case 1:
		return hits, nil
	}
	var ids []string
	for _, d := range hits {
		ids = append(ids, d.Short()+" ("+d.Name()+")")
	}
	return nil, fault.Wrong("name-ambiguous", "the id %s means several dumps: %s", prefix, strings.Join(ids, ", ")).
		Advise("write more of it")
}

// nothing says that a name means nothing, and what there is.
func nothing(dumps []*keep.Dump, what, name string) error {
	seen := map[string]bool{}
	for _, d := range dumps {
		seen[d.Name()] = true
	}
	var names []string
	for n := range seen {
		names = append(names, phrase.Clean(n))
	}
	sort.Strings(names)
	e := fault.Wrong("dump-absent", "there is no dump of the %s %q", what, name)
	switch {
	case len(names) == 0:
		return e.Advise("the keep holds no dumps yet")
	case len(names) > 12:
		return e.Advise("there are %s and %d more; see 'grainkeep list'", strings.Join(names[:12], ", "), len(names)-12)
	}
	return e.Advise("there are: %s", strings.Join(names, ", "))
}

// Zone is the time zone of a dump's job.
func Zone(d *keep.Dump) *time.Location {
	if z, err := time.LoadLocation(d.Manifest.Zone); err == nil {
		return z
	}
	return time.UTC
}

// pick chooses the newest dump not later than a moment, which must lie in the day
// that was asked for.
func pick(of, bad []*keep.Dump, name, at string, now time.Time) (*keep.Dump, error) {
	newest := of[len(of)-1]
	if at == "" {
		if b := newer(bad, newest, time.Time{}); b != nil {
			return nil, unreadable(b, name)
		}
		return newest, nil
	}
	zone := Zone(newest)
	when, err := phrase.ParseWhen(at, zone, now)
	if err != nil {
		return nil, fault.Wrong("moment-unclear", "--at: %v", err)
	}
	var before, after *keep.Dump
	for _, d := range of {
		if !d.Manifest.Moment.After(when.Until) {
			before = d
		} else if after == nil {
			after = d
		}
	}
	if b := newer(bad, before, when.Until); b != nil && (b.When().IsZero() ||
		b.When().In(zone).Format(time.DateOnly) == when.Day) {
		return nil, unreadable(b, name)
	}
	if before != nil && before.Manifest.Moment.In(zone).Format(time.DateOnly) == when.Day {
		return before, nil
	}
	upTo := ""
	if when.Text != when.Day {
		upTo = " up to " + when.Until.In(zone).Format("15:04:05 MST")
	}
	e := fault.Wrong("moment-absent", "%s has no dump of %s%s", newest.Name(), when.Day, upTo)
	var offers []string
	for _, n := range []struct {
		d    *keep.Dump
		word string
	}{{before, "before"}, {after, "after"}} {
		if n.d != nil {
			offers = append(offers, "the next one "+n.word+" is of "+phrase.Both(n.d.Manifest.Moment, zone)+": --at "+
				n.d.Manifest.Moment.In(zone).Format("2006-01-02T15:04:05Z07:00"))
		}
	}
	return nil, e.Advise("%s", strings.Join(offers, "; "))
}

// wholeRun gives the dumps of the newest run that has all its databases.
func wholeRun(of, bad []*keep.Dump, at string, now time.Time) ([]*keep.Dump, error) {
	runs := map[string][]*keep.Dump{}
	for _, d := range of {
		id := d.Manifest.Run.ID
		if !slices.ContainsFunc(runs[id],
			func(o *keep.Dump) bool { return o.Manifest.Database == d.Manifest.Database }) {
			runs[id] = append(runs[id], d)
		}
	}
	var last []*keep.Dump // of each complete run, the dump with the latest moment
	for _, d := range of {
		r := runs[d.Manifest.Run.ID]
		if len(r) == len(d.Manifest.Run.Databases) && r[len(r)-1] == d {
			last = append(last, d)
		}
	}
	if len(last) == 0 && len(bad) > 0 {
		return nil, unreadable(bad[len(bad)-1], of[0].Manifest.Job)
	}
	if len(last) == 0 {
		return nil, fault.Wrong("run-incomplete", "no run of the job %s is complete for all its databases",
			of[0].Manifest.Job).
			Advise("name one database: JOB/DATABASE; 'grainkeep list' shows what there is")
	}
	d, err := pick(last, bad, of[0].Manifest.Job, at, now)
	if err != nil {
		return nil, err
	}
	run := runs[d.Manifest.Run.ID]
	slices.SortFunc(run, func(a, b *keep.Dump) int { return strings.Compare(a.Manifest.Database, b.Manifest.Database) })
	return run, nil
}
