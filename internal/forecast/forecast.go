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
	Full   []*phrase.Schedule
	Retain phrase.Retain
	Thin   bool // what the phrase does not keep is removed; else all stays
	Zone   *time.Location
	Now    time.Time
	Dumps  []Dump
	Left   int64 // bytes that may still be written above the floor
	Known  bool  // whether that is known
}

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
	w := world{ask: a, dumps: slices.Clone(a.Dumps)}
	for _, d := range a.Dumps {
		w.bytes += d.Bytes
	}
	start := w.bytes
	o.Peak = w.bytes
	at := a.Now
	for range ahead {
		end := at.In(a.Zone).AddDate(0, 0, 1)
		for due := next(a.Full, at, a.Zone); !due.IsZero() && !due.After(end); due = next(a.Full, due, a.Zone) {
			for _, g := range o.Growth {
				n := g.At(due.Sub(a.Now))
				w.add(g.Of, due, n)
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
}

func (w *world) add(of string, at time.Time, bytes int64) {
	w.n++
	w.dumps = append(w.dumps, Dump{retain.Item{ID: fmt.Sprintf("to-come-%d", w.n), Of: of, Kind: "full", Moment: at,
		Good:   true,
		Proven: true}, bytes}) // drills go on
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
