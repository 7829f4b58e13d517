package phrase

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"grainkeep/internal/pattern"

	"github.com/robfig/cron/v3"
)

// Schedule says when something is due: at some times of some days, in the clock of a zone. A time
// that the clock skips is due at the instant of the skip; one that it repeats is due once, the first
// time.
type Schedule struct {
	Text  string
	times []clockTime      // of a day, sorted
	days  []days           // any of them; none: every day
	day   func(civil) bool // which days
	says  string           // in words
	from  civil            // first date; zero: none
	until civil            // last date; zero: none
	cron  bool
}

// clockTime is a time of the day, in minutes after midnight.
type clockTime int

func (c clockTime) String() string { return fmt.Sprintf("%02d:%02d", int(c)/60, int(c)%60) }

// civil is a date of the calendar.
type civil struct {
	year  int
	month time.Month
	day   int
}

func dateOf(t time.Time) civil {
	y, m, d := t.Date()
	return civil{y, m, d}
}

func (c civil) isZero() bool { return c == civil{} }

func (c civil) String() string { return fmt.Sprintf("%04d-%02d-%02d", c.year, int(c.month), c.day) }

// noon stands for the date where a time is needed: every day has one.
func (c civil) noon() time.Time { return time.Date(c.year, c.month, c.day, 12, 0, 0, 0, time.UTC) }

func (c civil) next() civil { return dateOf(c.noon().AddDate(0, 0, 1)) }

func (c civil) weekday() time.Weekday { return c.noon().Weekday() }

func (c civil) lastOfMonth() int { return time.Date(c.year, c.month+1, 0, 12, 0, 0, 0, time.UTC).Day() }

// horizon is how far ahead a next time is looked for.
const horizon = 5 * 366 // days

// Next is the first due instant after another, in a zone; the zero time where there is none.
func (s *Schedule) Next(after time.Time, zone *time.Location) time.Time {
	d := dateOf(after.In(zone))
	if !s.from.isZero() && d.String() < s.from.String() {
		d = s.from
	}
	for range horizon {
		if !s.until.isZero() && d.String() > s.until.String() {
			return time.Time{}
		}
		if s.day(d) {
			for _, c := range s.times {
				if at := instant(d, c, zone); at.After(after) {
					return at
				}
			}
		}
		d = d.next()
	}
	return time.Time{}
}

// instant is when a clock in a zone first shows a time of a date, or would have shown it.
func instant(d civil, c clockTime, zone *time.Location) time.Time {
	t := time.Date(d.year, d.month, d.day, int(c)/60, int(c)%60, 0, 0, zone)
	wall := func(x time.Time) (civil, clockTime) {
		h, m, _ := x.In(zone).Clock()
		return dateOf(x.In(zone)), clockTime(h*60 + m)
	}
	if day, clock := wall(t); day != d || clock != c { // it was skipped: t is on one side of the change or the other
		start, end := t.ZoneBounds()
		if day.String()+clock.String() > d.String()+c.String() {
			return start
		}
		return end
	}
	start, _ := t.ZoneBounds()
	if start.IsZero() {
		return t
	}
	// Was it shown before the last change of the clock, too?
	_, before := start.Add(-time.Nanosecond).In(zone).Zone()
	_, now := t.Zone()
	earlier := t.Add(time.Duration(now-before) * time.Second)
	if day, clock := wall(earlier); earlier.Before(start) && day == d && clock == c {
		return earlier
	}
	return t
}

var (
	timeWord   = pattern.Of(`^([01]?\d|2[0-3]):([0-5]\d)$`)
	eachPhrase = pattern.Of(`^each (\d+) (\S+)(?: between (\S+) and (\S+))?$`)
	fiveFields = pattern.Of(`^[\d*,/a-zA-Z-]+( +[\d*,/?a-zA-Z-]+){4}$`)
	fromPart   = pattern.Of(` from (\S+)`)
	untilPart  = pattern.Of(` until (\S+)`)
)

// ParseSchedule reads a phrase such as "02:30 on sunday", "02:30 on monday to saturday", "each 15
// min between 06:00 and 22:00", "04:00 on the last day", "03:00 on the first monday from
// 2026-04-01", or a crontab expression of five fields. An error names the word that is wrong.
func ParseSchedule(text string) (*Schedule, error) {
	s := &Schedule{Text: strings.Join(strings.Fields(text), " ")}
	if fiveFields().MatchString(s.Text) && !strings.HasPrefix(s.Text, "each ") && !strings.Contains(s.Text, " on ") {
		return s, s.parseCron()
	}
	rest := s.Text
	for _, part := range []struct {
		form *regexp.Regexp
		date *civil
	}{{fromPart(), &s.from}, {untilPart(), &s.until}} {
		if m := part.form.FindStringSubmatchIndex(rest); m != nil {
			day, err := time.Parse(time.DateOnly, rest[m[2]:m[3]])
			if err != nil {
				return nil, fmt.Errorf("%q is not a date; write one such as 2026-04-01", rest[m[2]:m[3]])
			}
			*part.date = dateOf(day)
			rest = rest[:m[0]] + rest[m[1]:]
		}
	}
	times, which, has := strings.Cut(rest, " on ")
	if err := s.parseTimes(times); err != nil {
		return nil, err
	}
	dayWords := "every day"
	if has {
		var err error
		if s.days, err = parseDays(which); err != nil {
			return nil, err
		}
		dayWords = "on " + which
	}
	s.day = func(d civil) bool {
		return len(s.days) == 0 || slices.ContainsFunc(s.days, func(x days) bool { return x.has(d) })
	}
	s.says += ", " + dayWords
	if !s.from.isZero() {
		s.says += ", from " + s.from.String()
	}
	if !s.until.isZero() {
		s.says += ", until " + s.until.String()
	}
	return s, nil
}

// String says it in words.
func (s *Schedule) String() string { return s.says }

func parseClock(word string) (clockTime, error) {
	m := timeWord().FindStringSubmatch(word)
	if m == nil {
		return 0, fmt.Errorf("%q is not a time of the day; write one such as 02:30", word)
	}
	h, _ := strconv.Atoi(m[1])
	min, _ := strconv.Atoi(m[2])
	return clockTime(h*60 + min), nil
}

func (s *Schedule) parseTimes(text string) error {
	if strings.HasPrefix(text, "each") {
		return s.parseEach(text)
	}
	var words []string
	for _, w := range between().Split(strings.TrimPrefix(text, "at "), -1) {
		c, err := parseClock(w)
		if err != nil {
			return err
		}
		s.times = append(s.times, c)
	}
	slices.Sort(s.times)
	s.times = slices.Compact(s.times)
	for _, c := range s.times {
		words = append(words, c.String())
	}
	s.says = "at " + strings.Join(words, ", ")
	return nil
}

func (s *Schedule) parseEach(text string) error {
	m := eachPhrase().FindStringSubmatch(text)
	if m == nil {
		return fmt.Errorf("%q cannot be understood; write \"each 15 min\" or \"each 2 hours between 06:00 and 22:00\"",
			text)
	}
	step, err := strconv.Atoi(m[1])
	switch strings.TrimSuffix(m[2], "s") {
	case "min", "minute":
	case "h", "hour":
		step *= 60
	default:
		return fmt.Errorf("%q in %q is no unit here; write min or hours", m[2], text)
	}
	if err != nil || step < 1 || step > 24*60 {
		return fmt.Errorf("%q in %q is not from one minute to a day", m[1], text)
	}
	first, last := clockTime(0), clockTime(24*60-1)
	s.says = "each " + m[1] + " " + m[2]
	if m[3] != "" {
		if first, err = parseClock(m[3]); err != nil {
			return err
		}
		if last, err = parseClock(m[4]); err != nil {
			return err
		}
		if last < first {
			return fmt.Errorf("%s is before %s; a span does not go over midnight: write two phrases", last, first)
		}
		s.says += fmt.Sprintf(" between %s and %s", first, last)
	}
	for c := first; c <= last; c += clockTime(step) {
		s.times = append(s.times, c)
	}
	return nil
}

var weekdays = map[string]time.Weekday{"sunday": 0, "monday": 1, "tuesday": 2, "wednesday": 3, "thursday": 4,
	"friday":   5,
	"saturday": 6}

var ordinals = map[string]int{"first": 1, "second": 2, "third": 3, "fourth": 4, "last": -1}

// days are some days: a span of weekdays, a day of the month, or the first or last such weekday of a
// month.
type days struct {
	first, last time.Weekday // of the span
	month       int          // day of the month; -1: the last; 0: it is about weekdays
	nth         int          // of the month's such weekdays; -1: the last; 0: all
}

func (x days) has(d civil) bool {
	switch {
	case x.month > 0:
		return d.day == x.month
	case x.month < 0:
		return d.day == d.lastOfMonth()
	case (d.weekday()-x.first+7)%7 > (x.last-x.first+7)%7:
		return false
	case x.nth < 0:
		return d.day > d.lastOfMonth()-7
	}
	return x.nth == 0 || (d.day-1)/7 == x.nth-1
}

// parseDays reads the days of a phrase.
func parseDays(text string) (list []days, err error) {
	for _, item := range between().Split(strings.ToLower(text), -1) {
		d, err := parseDay(item)
		if err != nil {
			return nil, err
		}
		list = append(list, d...)
	}
	return list, nil
}

func parseWeekday(word string) (time.Weekday, error) {
	d, ok := weekdays[strings.TrimSuffix(word, "s")]
	if !ok {
		return 0, fmt.Errorf("%q is not a day; write monday, monday to friday, weekdays, day 15, the last day or the first monday",
			word)
	}
	return d, nil
}

func parseDay(item string) ([]days, error) {
	words := strings.Fields(item)
	switch {
	case item == "weekdays":
		return []days{{first: time.Monday, last: time.Friday}}, nil
	case item == "weekends":
		return []days{{first: time.Saturday, last: time.Sunday}}, nil
	case item == "the last day":
		return []days{{month: -1}}, nil
	case len(words) == 3 && words[1] == "to":
		first, err := parseWeekday(words[0])
		if err != nil {
			return nil, err
		}
		last, err := parseWeekday(words[2])
		return []days{{first: first, last: last}}, err
	case len(words) == 2 && words[0] == "day":
		n, err := strconv.Atoi(words[1])
		if err != nil || n < 1 || n > 31 {
			return nil, fmt.Errorf("%q is not a day of the month, from 1 to 31", words[1])
		}
		return []days{{month: n}}, nil
	case len(words) == 3 && words[0] == "the" && ordinals[words[1]] != 0:
		w, err := parseWeekday(words[2])
		return []days{{first: w, last: w, nth: ordinals[words[1]]}}, err
	}
	w, err := parseWeekday(item)
	return []days{{first: w, last: w}}, err
}

// parseCron reads a crontab expression into the same days and times.
func (s *Schedule) parseCron() error {
	parsed, err := cron.ParseStandard(s.Text)
	if err != nil {
		return fmt.Errorf("%q is not a crontab expression: %s", s.Text, strings.ReplaceAll(err.Error(), "\n", " "))
	}
	spec, ok := parsed.(*cron.SpecSchedule)
	if !ok {
		return fmt.Errorf("%q is not a crontab expression of five fields", s.Text)
	}
	const star = 1 << 63
	has := func(field uint64, n int) bool { return field&(1<<uint(n)) != 0 }
	for h := range 24 {
		for m := range 60 {
			if has(spec.Hour, h) && has(spec.Minute, m) {
				s.times = append(s.times, clockTime(h*60+m))
			}
		}
	}
	s.day = func(d civil) bool {
		if !has(spec.Month, int(d.month)) {
			return false
		}
		dom, dow := has(spec.Dom, d.day), has(spec.Dow, int(d.weekday()))
		if spec.Dom&star != 0 || spec.Dow&star != 0 { // one of the two says nothing
			return dom && dow
		}
		return dom || dow
	}
	s.says, s.cron = "as the crontab expression "+s.Text+" says", true
	return nil
}
