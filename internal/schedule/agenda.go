package schedule

import (
	"fmt"
	"slices"
	"sort"
	"time"

	"grainkeep/internal/phrase"
)

// DefaultCatchUp is how late a missed run is made up for where a job says nothing of it.
const DefaultCatchUp = 12 * time.Hour

// punctual is how late a start is no news: timers and busy machines are not exact.
const punctual = 2 * time.Minute

// backwards is by how much a clock that is set back makes an agenda begin anew; less is waited for.
const backwards = time.Hour

// Agenda knows what is due of some plans, and what has been. It starts nothing, and looks at no clock itself. Not
// for use side by side.
type Agenda struct {
	zone  *time.Location
	plans []Plan
	since []time.Time // of each plan: up to when it has been looked at
}

// Missed is what was due and is too late to be made up for, or what a later one stands for.
type Missed struct {
	Job  string
	What What
	N    int       // how many
	Last time.Time // when the last of them was due
}

// String says it in words.
func (m Missed) String() string {
	return fmt.Sprintf("%s of %s %s, the last on %s", phrase.Plural(int64(m.N), "run"), m.Job,
		map[bool]string{true: "was missed", false: "were missed"}[m.N == 1], m.Last.Format("2006-01-02 15:04 MST"))
}

// NewAgenda begins at an instant. What was due since it was last done is caught up.
func NewAgenda(plans []Plan, zone *time.Location, last Last, now time.Time) *Agenda {
	a := &Agenda{zone: zone, plans: plans}
	for _, p := range plans {
		since := last(p.Job, p.What)
		if since.IsZero() || since.After(now) {
			since = now
		}
		a.since = append(a.since, since)
	}
	return a
}

// Change puts other plans in the place of those that were. Nothing of what they have in common is done twice.
func (a *Agenda) Change(plans []Plan, zone *time.Location, now time.Time) {
	since := make([]time.Time, len(plans))
	for i, p := range plans {
		since[i] = now
		for k, old := range a.plans {
			if old.Job == p.Job && old.What == p.What && a.since[k].Before(now) {
				since[i] = a.since[k]
			}
		}
	}
	a.plans, a.zone, a.since = plans, zone, since
}

// Wake is when to look again, after a time at most.
func (a *Agenda) Wake(now time.Time, longest time.Duration) time.Time {
	wake := now.Add(longest)
	for i, p := range a.plans {
		if at := p.next(a.since[i], a.zone); !at.IsZero() && at.Before(wake) {
			wake = at
		}
	}
	if wake.Before(now) {
		return now
	}
	return wake
}

// Due gives what is to be done now, in its order, and what was missed. Of the dumps of one job that are due
// together, the largest is done, once; of one plan that was due several times, the last.
func (a *Agenda) Due(now time.Time) (due []Due, missed []Missed) {
	for i, p := range a.plans {
		if a.since[i].Sub(now) > backwards {
			a.since[i] = now
		}
		n, last := 0, time.Time{}
		for at := p.next(a.since[i], a.zone); !at.IsZero() && !at.After(now); at = p.next(at, a.zone) {
			n, last = n+1, at
		}
		if n == 0 {
			continue
		}
		a.since[i] = now
		late := now.Sub(last)
		if late > max(punctual, p.CatchUp) {
			missed = append(missed, Missed{p.Job, p.What, n, last})
			continue
		}
		if n > 1 {
			missed = append(missed, Missed{p.Job, p.What, n - 1, last})
		}
		d := Due{At: last, Job: p.Job, What: p.What, Why: "it is due"}
		if late > punctual {
			d.Why = "it was missed " + phrase.Ago(late) + ", and is made up for"
		}
		due = append(due, d)
	}
	due = largest(due)
	sort.SliceStable(due, func(i, k int) bool {
		switch {
		case due[i].Job != due[k].Job:
			return due[i].At.Before(due[k].At) || due[i].At.Equal(due[k].At) && due[i].Job < due[k].Job
		}
		return order[due[i].What] < order[due[k].What]
	})
	return due, missed
}

// largest leaves out the dumps that a larger one of the same job stands for.
func largest(due []Due) []Due {
	return slices.DeleteFunc(slices.Clone(due), func(d Due) bool {
		return d.What.Dump() && slices.ContainsFunc(due, func(o Due) bool {
			return o.Job == d.Job && o.What.Dump() && order[o.What] < order[d.What]
		})
	})
}
