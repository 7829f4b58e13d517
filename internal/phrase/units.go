// Package phrase holds the small languages that people write to Grain Keep
// (moments, sizes, patterns) and the units in which it writes back.
package phrase

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"grainkeep/internal/pattern"
)

// Bytes writes a size with binary units: "0 B", "812 B", "14.2 MiB".
func Bytes(n int64) string {
	if n == math.MinInt64 { // it has no positive
		n++
	}
	if n < 0 {
		return "-" + Bytes(-n)
	}
	if n < 1024 {
		return fmt.Sprintf("%d B", n)
	}
	v, unit := float64(n), ""
	for _, unit = range []string{"KiB", "MiB", "GiB", "TiB", "PiB"} {
		v /= 1024
		if v < 1023.95 {
			break
		}
	}
	return fmt.Sprintf("%.1f %s", v, unit)
}

var sizePattern = pattern.Of(`^([0-9]+(?:\.[0-9]+)?)\s*([KMGT]i?B|B)$`)

// ParseBytes reads a size such as "20 GiB", "500 MB" or "4096 B".
func ParseBytes(s string) (int64, error) {
	m := sizePattern().FindStringSubmatch(strings.TrimSpace(s))
	if m == nil {
		return 0, fmt.Errorf("%q is not a size; write one such as \"20 GiB\"", s)
	}
	v, _ := strconv.ParseFloat(m[1], 64)
	step := 1000.0
	if strings.Contains(m[2], "i") {
		step = 1024
	}
	if i := strings.IndexByte("BKMGT", m[2][0]); i > 0 {
		v *= math.Pow(step, float64(i))
	}
	if v >= 1<<62 {
		return 0, fmt.Errorf("%q is larger than any drive", s)
	}
	return int64(v), nil
}

// Duration writes a length of time as people say it: "40 ms", "1.4 s", "12 m 30 s".
func Duration(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < time.Hour:
		d = d.Round(time.Second)
		return fmt.Sprintf("%d m %02d s", d/time.Minute, d%time.Minute/time.Second)
	}
	d = d.Round(time.Minute)
	return fmt.Sprintf("%d h %02d m", d/time.Hour, d%time.Hour/time.Minute)
}

// About writes a length of time in one unit: "15 minutes", "3 hours", "2 days".
func About(d time.Duration) string {
	switch {
	case d < 2*time.Minute:
		return Plural(int64(d.Seconds()+0.5), "second")
	case d < 2*time.Hour:
		return Plural(int64(d.Minutes()+0.5), "minute")
	case d < 23*time.Hour:
		return Plural(int64(d.Hours()+0.5), "hour")
	}
	return Plural(int64(d.Hours()/24+0.5), "day")
}

// Ago writes how long ago something was: "just now", "5 minutes ago", "3 days ago".
func Ago(d time.Duration) string {
	if d < -time.Minute {
		return "in the future"
	}
	count := func(n int, unit string) string {
		if n == 1 {
			return "1 " + unit + " ago"
		}
		return fmt.Sprintf("%d %ss ago", n, unit)
	}
	switch {
	case d < time.Minute:
		return "just now"
	case d < time.Hour:
		return count(int(d.Minutes()), "minute")
	case d < 48*time.Hour:
		return count(int(d.Hours()), "hour")
	}
	return count(int(d.Hours()/24), "day")
}

// Count writes a number with thin separators: "1,234,567".
func Count(n int64) string {
	s := strconv.FormatInt(n, 10)
	sign := ""
	if n < 0 {
		sign, s = "-", s[1:]
	}
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return sign + s
}

// Plural writes a count with its noun: "1 table", "3 tables", "2 indexes".
func Plural(n int64, noun string) string {
	if n != 1 {
		switch {
		case strings.HasSuffix(noun, "s"): // grants, statistics
		case strings.HasSuffix(noun, "x"), strings.HasSuffix(noun, "ch"), strings.HasSuffix(noun, "sh"):
			noun += "es"
		case strings.HasSuffix(noun, "ey"), strings.HasSuffix(noun, "ay"):
			noun += "s"
		case strings.HasSuffix(noun, "y"):
			noun = noun[:len(noun)-1] + "ies"
		default:
			noun += "s"
		}
	}
	return Count(n) + " " + noun
}

var agePattern = pattern.Of(`^([0-9]+)\s*(s|sec|seconds?|m|min|minutes?|h|hours?|d|days?|weeks?)$`)

// maxAge is the longest length of time that can be asked for.
const maxAge = 200 * 365 * 24 * time.Hour

// ParseAge reads a length of time such as "2 days", "90 min" or "30 s".
func ParseAge(s string) (time.Duration, error) {
	m := agePattern().FindStringSubmatch(strings.TrimSpace(s))
	if m == nil {
		return 0, fmt.Errorf("%q is not a length of time; write one such as \"30 s\", \"90 min\" or \"2 days\"", s)
	}
	n, err := strconv.ParseInt(m[1], 10, 32)
	if err != nil {
		return 0, fmt.Errorf("%q is too long a time", s)
	}
	unit := map[byte]time.Duration{'s': time.Second, 'm': time.Minute, 'h': time.Hour, 'd': 24 * time.Hour,
		'w': 7 * 24 * time.Hour}
	step := unit[m[2][0]]
	if n > int64(maxAge/step) {
		return 0, fmt.Errorf("%q is too long a time", s)
	}
	return time.Duration(n) * step, nil
}

// Match says whether a name matches a pattern, in which * stands for any letters
// and ? for one.
func Match(pattern, name string) bool {
	star, again := -1, 0 // the last * of the pattern, and where in the name it is tried next
	p := 0
	for n := 0; n < len(name) || p < len(pattern); {
		switch {
		case p < len(pattern) && pattern[p] == '*':
			star, again = p, n
			p++
			continue
		case p < len(pattern) && n < len(name) && pattern[p] == '?':
			_, size := utf8.DecodeRuneInString(name[n:])
			p, n = p+1, n+size
			continue
		case p < len(pattern) && n < len(name) && pattern[p] == name[n]:
			p, n = p+1, n+1
			continue
		}
		if star < 0 || again >= len(name) {
			return false
		}
		_, size := utf8.DecodeRuneInString(name[again:])
		again += size
		p, n = star+1, again
	}
	return true
}

// HasPattern says whether a text is a pattern rather than a literal name.
func HasPattern(s string) bool { return strings.ContainsAny(s, "*?") }

// SignedBytes writes a difference of sizes: "+1.2 MiB", "-3.0 KiB".
func SignedBytes(n int64) string {
	if n < 0 {
		return "-" + Bytes(-n)
	}
	return "+" + Bytes(n)
}
