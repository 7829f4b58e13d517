// Package forecast reckons a year ahead: what the dumps of a job will take on its keep, when the floor is reached,
// and how many restore points of which age there will be. It reckons from the job's phrases and from the sizes and
// the growth of the dumps that there are, and touches nothing.
package forecast

import (
	"fmt"
	"slices"
	"time"

	"gonum.org/v1/gonum/stat"

	"grainkeep/internal/phrase"
	"grainkeep/internal/retain"
)

// Dump is one that there is.
type Dump struct {
	retain.Item
	Bytes int64
}

// Ask is what to reckon with.
type Ask struct {
	Due    []Due // by kind, the largest first
	Retain phrase.Retain
	Thin   bool // what the phrase does not keep is removed; else all stays
	Zone   *time.Location
	Now    time.Time
	Dumps  []Dump
	Left   int64 // bytes that may still be written above the floor
	Known  bool  // whether that is known
}

// Due is when dumps of a kind are due.
type Due struct {
	Kind string
	When []*phrase.Schedule
}

// Share is what a dump that builds on another takes of a full, where there is none yet to reckon from.
var Share = map[string]float64{"differential": 0.1, "incremental": 0.01}

// Growth is how the dumps of one database grow.
type Growth struct {
	Of     string
	Bytes  int64   // its newest full dump
	PerDay float64 // bytes that a dump grows by each day
	From   int     // so many dumps; fewer than three say nothing of growth
}

// At is the size of a dump so long after the newest.
func (g Growth) At(d time.Duration) int64 {
	n := float64(g.Bytes) + g.PerDay*d.Hours()/24
	return int64(max(n, float64(g.Bytes)/10)) // what shrinks does not vanish
}

// Day is how it stands at the end of a day.
type Day struct {
	At    time.Time
	Bytes int64 // of all dumps of the job
	Dumps int
}

// Age is how many restore points of an age there will be at the end.
type Age struct {
	Name  string
	Dumps int
}

// Outlook is what will be.
type Outlook struct {
	Growth  []Growth
	Assumed []string // kinds of which there is no dump yet: Share of a full is reckoned with
	Days    []Day
	Peak    int64     // the most bytes at any time
	Reached time.Time // when the floor is reached; zero: not within the year
	Written int64     // bytes in all of the year
	Ages    []Age
}

const ahead = 365 // days

// Reckon looks a year ahead.
func Reckon(a Ask) Outlook {
	o := Outlook{Growth: growth(a.Dumps)}
	w := world{ask: a, dumps: slices.Clone(a.Dumps), last: map[string]string{}, full: map[string]string{}}
	sizes := changes(a.Dumps)
	for _, d := range a.Due {
		if d.Kind != full && len(sizes[d.Kind]) == 0 {
			o.Assumed = append(o.Assumed, d.Kind)
		}
	}
	for _, d := range a.Dumps {
		w.bytes += d.Bytes
	}
	start := w.bytes
	o.Peak = w.bytes
	at := a.Now
	for range ahead {
		end := at.In(a.Zone).AddDate(0, 0, 1)
		for due, kind := a.next(at); !due.IsZero() && !due.After(end); due, kind = a.next(due) {
			for _, g := range o.Growth {
				n := g.At(due.Sub(a.Now))
				if known, has := sizes[kind][g.Of]; has {
					n = known
				} else if kind != full {
					n = int64(float64(n) * Share[kind])
				}
				w.add(g.Of, kind, due, n)
				o.Written += n
			}
			o.Peak = max(o.Peak, w.bytes)
			if a.Known && o.Reached.IsZero() && w.bytes-start > a.Left {
				o.Reached = due
			}
		}
		at = end
		if a.Thin {
			w.thin(at)
		}
		o.Days = append(o.Days, Day{at, w.bytes, len(w.dumps)})
	}
	o.Ages = w.ages(at)
	return o
}

const full = "full"

// next is the next time that a dump is due, and its kind: of several, the largest.
func (a Ask) next(after time.Time) (first time.Time, kind string) {
	for _, d := range a.Due {
		if at := next(d.When, after, a.Zone); !at.IsZero() && (first.IsZero() || at.Before(first)) {
			first, kind = at, d.Kind
		}
	}
	return first, kind
}

// changes are the mean sizes of the dumps that build on others, by kind and database.
func changes(dumps []Dump) map[string]map[string]int64 {
	sizes, n := map[string]map[string]int64{}, map[[2]string]int64{}
	for _, d := range dumps {
		if d.Kind == full {
			continue
		}
		if sizes[d.Kind] == nil {
			sizes[d.Kind] = map[string]int64{}
		}
		key := [2]string{d.Kind, d.Of}
		n[key]++
		sizes[d.Kind][d.Of] += (d.Bytes - sizes[d.Kind][d.Of]) / n[key]
	}
	return sizes
}

// next is the first time that any phrase says.
func next(when []*phrase.Schedule, after time.Time, zone *time.Location) (first time.Time) {
	for _, s := range when {
		if at := s.Next(after, zone); !at.IsZero() && (first.IsZero() || at.Before(first)) {
			first = at
		}
	}
	return first
}

// growth fits a line to the sizes of each database's full dumps.
func growth(dumps []Dump) (list []Growth) {
	of := map[string][]Dump{}
	var names []string
	for _, d := range dumps {
		if d.Kind != full {
			continue
		}
		if of[d.Of] == nil {
			names = append(names, d.Of)
		}
		of[d.Of] = append(of[d.Of], d)
	}
	slices.Sort(names)
	for _, name := range names {
		slices.SortFunc(of[name], func(x, y Dump) int { return x.Moment.Compare(y.Moment) })
		first, last := of[name][0], of[name][len(of[name])-1]
		g := Growth{Of: name, Bytes: last.Bytes, From: len(of[name])}
		if g.From >= 3 && last.Moment.Sub(first.Moment) >= 24*time.Hour {
			var x, y []float64
			for _, d := range of[name] {
				x = append(x, d.Moment.Sub(first.Moment).Hours()/24)
				y = append(y, float64(d.Bytes))
			}
			_, g.PerDay = stat.LinearRegression(x, y, nil, false)
		} else {
			g.From = min(g.From, 2)
		}
		list = append(list, g)
	}
	return list
}

// world is the keep as it will be.
type world struct {
	ask   Ask
	dumps []Dump
	bytes int64
	n     int
	last  map[string]string // the newest dump of each database, by id
	full  map[string]string // the newest full
}

func (w *world) add(of, kind string, at time.Time, bytes int64) {
	w.n++
	it := retain.Item{ID: fmt.Sprintf("to-come-%d", w.n), Of: of, Kind: kind, Moment: at, Good: true,
		Proven: true} // drills go on
	switch kind {
	case full:
		w.full[of] = it.ID
	case "differential":
		it.Base = w.full[of]
	default:
		it.Base = w.last[of]
	}
	w.last[of] = it.ID
	w.dumps = append(w.dumps, Dump{it, bytes})
	w.bytes += bytes
}

// thin removes what the phrase does not keep.
func (w *world) thin(now time.Time) {
	items := make([]retain.Item, len(w.dumps))
	for i, d := range w.dumps {
		items[i] = d.Item
	}
	verdicts := retain.Plan(w.ask.Retain, w.ask.Zone, now, items)
	stay := w.dumps[:0]
	for i, v := range verdicts {
		if v.Stays {
			stay = append(stay, w.dumps[i])
		} else {
			w.bytes -= w.dumps[i].Bytes
		}
	}
	w.dumps = stay
}

// ages counts the restore points by their age.
func (w *world) ages(now time.Time) []Age {
	bounds := []struct {
		name string
		to   time.Duration
	}{{"of the last day", 24 * time.Hour}, {"of the last week", 7 * 24 * time.Hour}, {"of the last month",
		31 * 24 * time.Hour},
		{"of the last three months", 92 * 24 * time.Hour}, {"of the last year", 366 * 24 * time.Hour}, {"older",
			1 << 62}}
	ages := make([]Age, len(bounds))
	for i, b := range bounds {
		ages[i].Name = b.name
	}
	seen := map[time.Time]bool{} // the dumps of one run are one point
	for _, d := range w.dumps {
		run := d.Moment.Truncate(time.Minute)
		if seen[run] {
			continue
		}
		seen[run] = true
		for i, b := range bounds {
			if now.Sub(d.Moment) <= b.to {
				ages[i].Dumps++
				break
			}
		}
	}
	return ages
}
