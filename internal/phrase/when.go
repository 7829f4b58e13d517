package phrase

import (
	"fmt"
	"strings"
	"time"

	"grainkeep/internal/pattern"
)

// When is a moment that a person asked for.
type When struct {
	Text  string
	Until time.Time // the newest dump not later than this is meant
	Day   string    // the local day that was asked for, 2006-01-02
}

var (
	datePattern = pattern.Of(`^\d{4}-\d{2}-\d{2}$`)
	timePattern = pattern.Of(`^(\d{4}-\d{2}-\d{2})[T ](\d{2}:\d{2})(:\d{2}(?:\.\d{1,9})?)?(Z|[+-]\d{2}:\d{2})?$`)
)

// ParseWhen reads a moment: a time (2026-03-14T09:30, with an offset if the
// clock repeated that hour), a date (its end), or an age (2 days). Zone is the
// job's; now is what ages count from.
func ParseWhen(s string, zone *time.Location, now time.Time) (When, error) {
	s = strings.TrimSpace(s)
	if datePattern().MatchString(s) {
		day, err := time.Parse(time.DateOnly, s)
		if err != nil {
			return When{}, fmt.Errorf("%q is not a date of the calendar", s)
		}
		return When{Text: s, Until: begins(day.AddDate(0, 0, 1), zone).Add(-time.Nanosecond), Day: s}, nil
	}
	if m := timePattern().FindStringSubmatch(s); m != nil {
		return parseTime(s, m, zone)
	}
	if d, err := ParseAge(strings.TrimSuffix(s, " ago")); err == nil {
		t := now.Add(-d)
		return When{Text: s, Until: t, Day: t.In(zone).Format(time.DateOnly)}, nil
	}
	return When{},
		fmt.Errorf("%q is not a moment; write a time (2026-03-14T09:30), a date (2026-03-14) or an age (2 days, "+
			"90 min)", s)
}

// ParseSince reads what ParseWhen reads, and gives the first instant that it means.
func ParseSince(s string, zone *time.Location, now time.Time) (time.Time, error) {
	w, err := ParseWhen(s, zone, now)
	if err != nil {
		return time.Time{}, err
	}
	s = strings.TrimSpace(s)
	if datePattern().MatchString(s) {
		day, err := time.Parse(time.DateOnly, s)
		return begins(day, zone), err
	}
	switch m := timePattern().FindStringSubmatch(s); {
	case m == nil || strings.Contains(m[3], "."):
		return w.Until, nil
	case m[3] == "":
		return w.Until.Add(1 - time.Minute), nil
	}
	return w.Until.Add(1 - time.Second), nil
}

// begins is the first instant of a day in a zone: not every day has a midnight, and some have two.
func begins(day time.Time, zone *time.Location) time.Time {
	y, m, d := day.Date()
	noon := time.Date(y, m, d, 12, 0, 0, 0, zone)
	within := func(t time.Time) bool { return t.In(zone).Format(time.DateOnly) == day.Format(time.DateOnly) }
	if changed, _ := noon.ZoneBounds(); within(changed) && !within(changed.Add(-time.Nanosecond)) {
		return changed // the clock skipped midnight
	}
	midnight := time.Date(y, m, d, 0, 0, 0, 0, zone)
	for _, shift := range []time.Duration{-time.Hour, -30 * time.Minute} {
		if t := midnight.Add(shift); within(t) {
			return t
		}
	}
	return midnight
}

func parseTime(s string, m []string, zone *time.Location) (When, error) {
	// A time without seconds means that whole minute, one with whole seconds
	// that whole second: what list prints can be given back.
	text, end := m[1]+"T"+m[2]+m[3], time.Second-1
	if m[3] == "" {
		text, end = text+":00", time.Minute-1
	} else if strings.Contains(m[3], ".") {
		end = 0
	}
	if m[4] != "" {
		t, err := time.Parse(time.RFC3339Nano, text+m[4])
		if err != nil {
			return When{}, fmt.Errorf("%q is not a time of the calendar", s)
		}
		t = t.Add(end)
		return When{Text: s, Until: t, Day: t.In(zone).Format(time.DateOnly)}, nil
	}
	const layout = "2006-01-02T15:04:05.999999999"
	t, err := time.ParseInLocation(layout, text, zone)
	if err != nil {
		return When{}, fmt.Errorf("%q is not a time of the calendar", s)
	}
	wall, _ := time.Parse(layout, text)
	if t.Format(layout) != wall.Format(layout) {
		return When{}, fmt.Errorf("%q never was: the clock in %s skipped it; give the time with an offset", s, zone)
	}
	for _, shift := range []time.Duration{-time.Hour, time.Hour, -30 * time.Minute, 30 * time.Minute} {
		if o := t.Add(shift); o.Format(layout) == t.Format(layout) {
			first, second := t, o
			if o.Before(t) {
				first, second = o, t
			}
			return When{}, fmt.Errorf("%q was twice: the clock in %s repeated that hour; write %s%s or %s%s",
				s, zone, s, first.Format("Z07:00"), s, second.Format("Z07:00"))
		}
	}
	t = t.Add(end)
	return When{Text: s, Until: t, Day: m[1]}, nil
}

// Both writes a moment in a zone and in UTC, as it is always shown before
// anything is done with it.
func Both(t time.Time, zone *time.Location) string {
	utc := t.UTC().Format("2006-01-02 15:04:05 UTC")
	if _, offset := t.In(zone).Zone(); offset == 0 {
		return utc
	}
	return Local(t, zone) + " (" + utc + ")"
}

// Local writes a moment in a zone, where there is no room for both.
func Local(t time.Time, zone *time.Location) string {
	if _, offset := t.In(zone).Zone(); offset == 0 {
		zone = time.UTC
	}
	return t.In(zone).Format("2006-01-02 15:04:05 MST")
}
