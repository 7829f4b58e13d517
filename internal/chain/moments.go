package chain

import (
	"slices"
	"time"

	"grainkeep/internal/keep"
)

// Moments gives the dumps of a database that restore, by their moments, and those that do not any more.
func Moments(dumps []*keep.Dump, job, database string) (good, lost []*keep.Dump) {
	links := Link(dumps)
	for _, d := range dumps {
		if d.Manifest == nil || d.Manifest.Job != job || d.Manifest.Database != database {
			continue
		}
		if _, err := links.To(d); err != nil {
			lost = append(lost, d)
		} else {
			good = append(good, d)
		}
	}
	byMoment := func(a, b *keep.Dump) int { return a.Manifest.Moment.Compare(b.Manifest.Moment) }
	slices.SortStableFunc(good, byMoment)
	slices.SortStableFunc(lost, byMoment)
	return good, lost
}

// Day is the moments of a day.
type Day struct {
	Day   time.Time // its midnight
	Dumps []*keep.Dump
	Gap   time.Duration // the longest time between two of them, or to the last one of the day before
	From  time.Time     // where that begins
	Spans []Span        // any moment of which can be restored
}

// Span is from one moment to another.
type Span struct{ From, To time.Time }

// Days divides dumps, which come by their moments, by the days of a zone.
func Days(dumps []*keep.Dump, zone *time.Location) (days []Day) {
	links := Link(dumps)
	for i, d := range dumps {
		at := d.Manifest.Moment.In(zone)
		midnight := time.Date(at.Year(), at.Month(), at.Day(), 0, 0, 0, 0, zone)
		if len(days) == 0 || !days[len(days)-1].Day.Equal(midnight) {
			days = append(days, Day{Day: midnight})
		}
		day := &days[len(days)-1]
		day.Dumps = append(day.Dumps, d)
		if base := links[d.Manifest.Base]; base != nil && d.Manifest.Inside() {
			day.span(base.Manifest.Moment, d.Manifest.Moment)
		}
		if i > 0 {
			before := dumps[i-1].Manifest.Moment
			if gap := d.Manifest.Moment.Sub(before); gap > day.Gap {
				day.Gap, day.From = gap, before
			}
		}
	}
	return days
}

// span adds a span; it goes on with the last one where they meet.
func (d *Day) span(from, to time.Time) {
	from = latest(from, d.Day)
	if n := len(d.Spans); n > 0 && !from.After(d.Spans[n-1].To) {
		d.Spans[n-1].To = latest(to, d.Spans[n-1].To)
		return
	}
	d.Spans = append(d.Spans, Span{from, to})
}

func latest(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}
