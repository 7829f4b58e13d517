package phrase

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"grainkeep/internal/pattern"
)

// Retain says which dumps are kept: all that any of its clauses keeps. Without clauses all are.
type Retain struct {
	Text    string
	Clauses []RetainClause
}

// RetainClause keeps the newest few, or those of a span of time: all of them, or the last of each
// calendar period.
type RetainClause struct {
	Text   string
	Newest int    // so many; 0: it is a span of time
	Kind   string // of those: full, differential, incremental; empty: any
	Every  Unit   // the last of each such period of the calendar; empty: everything
	Span   Span
}

// Unit is a unit of the calendar.
type Unit string

// The units of the calendar.
const (
	Hour  Unit = "hour"
	Day   Unit = "day"
	Week  Unit = "week"
	Month Unit = "month"
	Year  Unit = "year"
)

// Span is a length of time in units of the calendar.
type Span struct {
	N    int
	Unit Unit
}

// Before is the instant so long before another, by the calendar of its zone: a month before the
// 31st of March is the last day of February.
func (s Span) Before(t time.Time) time.Time {
	y, m, d := t.Date()
	switch s.Unit {
	case Hour:
		return t.Add(-time.Duration(s.N) * time.Hour)
	case Week:
		d -= 7 * s.N
	case Month:
		m -= time.Month(s.N)
	case Year:
		y -= s.N
	default:
		d -= s.N
	}
	if s.Unit == Month || s.Unit == Year {
		if last := time.Date(y, m+1, 0, 12, 0, 0, 0, t.Location()); d > last.Day() {
			d = last.Day()
		}
	}
	return time.Date(y, m, d, t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), t.Location())
}

// String writes it as people say it.
func (s Span) String() string { return Plural(int64(s.N), string(s.Unit)) }

// Period names the calendar period that a moment is in: two moments of one period have one name.
// Weeks begin on Monday.
func (u Unit) Period(t time.Time) string {
	switch u {
	case Hour: // an hour that the clock repeats is two
		return t.Format("2006-01-02T15 -0700")
	case Week:
		y, w := t.ISOWeek()
		return fmt.Sprintf("%d-W%02d", y, w)
	case Month:
		return t.Format("2006-01")
	case Year:
		return t.Format("2006")
	}
	return t.Format(time.DateOnly)
}

var (
	newestClause = pattern.Of(`^newest (\S+)(?: (\S+))?$`)
	spanClause   = pattern.Of(`^(?:everything|one an? (\S+)) for (\S+) (\S+)$`)
	between      = pattern.Of(`\s*,\s*(?:and\s+)?|\s+and\s+`)
)

// most bounds the numbers in a phrase: nobody keeps more of anything.
const most = 1_000_000

// ParseRetain reads a phrase such as "newest 5 fulls, everything for 3 days, one a week for 8
// weeks". An error names the word that is wrong. An empty text is no phrase: everything stays.
func ParseRetain(text string) (Retain, error) {
	r := Retain{Text: strings.Join(strings.Fields(text), " ")}
	if r.Text == "" {
		return r, nil
	}
	for _, part := range between().Split(r.Text, -1) {
		c, err := parseClause(part)
		if err != nil {
			return Retain{}, err
		}
		r.Clauses = append(r.Clauses, c)
	}
	return r, nil
}

func parseClause(text string) (c RetainClause, err error) {
	c.Text = text
	if m := newestClause().FindStringSubmatch(text); m != nil {
		if c.Newest, err = count(m[1]); err != nil {
			return c, fmt.Errorf("%w in %q", err, text)
		}
		word := strings.TrimSuffix(m[2], "s")
		switch {
		case word == "" || word == "dump":
		case slices.Contains([]string{"full", "differential", "incremental"}, word):
			c.Kind = word
		default:
			return c, fmt.Errorf("%q in %q is no kind of dump; write fulls, differentials, incrementals or dumps", m[2],
				text)
		}
		return c, nil
	}
	m := spanClause().FindStringSubmatch(text)
	if m == nil {
		return c, fmt.Errorf("%q cannot be understood; write \"newest 5 fulls\", \"everything for 3 days\" or \"one a week for 8 weeks\"",
			text)
	}
	if m[1] != "" {
		if c.Every, err = unit(m[1]); err != nil {
			return c, fmt.Errorf("%w in %q", err, text)
		}
	}
	if c.Span.N, err = count(m[2]); err == nil {
		c.Span.Unit, err = unit(strings.TrimSuffix(m[3], "s"))
	}
	if err != nil {
		return c, fmt.Errorf("%w in %q", err, text)
	}
	return c, nil
}

func count(word string) (int, error) {
	n, err := strconv.Atoi(word)
	if err != nil || n < 1 || n > most {
		return 0, fmt.Errorf("%q is not a number from 1 to %s", word, Count(most))
	}
	return n, nil
}

func unit(word string) (Unit, error) {
	u := Unit(word)
	if !slices.Contains([]Unit{Hour, Day, Week, Month, Year}, u) {
		return "", fmt.Errorf("%q is no unit of time here; write hour, day, week, month or year", word)
	}
	return u, nil
}

// Sentences says what the phrase keeps, a clause each.
func (r Retain) Sentences() (list []string) {
	for _, c := range r.Clauses {
		what := strings.TrimSpace(c.Kind + " dumps")
		switch {
		case c.Newest == 1:
			list = append(list, "the newest good "+strings.TrimSuffix(what, "s"))
		case c.Newest > 0:
			list = append(list, fmt.Sprintf("the newest %s good %s", Count(int64(c.Newest)), what))
		case c.Every == "":
			list = append(list, "every dump of the last "+c.Span.String())
		default:
			list = append(list, fmt.Sprintf("the last good dump of each %s, for %s", c.Every, c.Span))
		}
	}
	return list
}
