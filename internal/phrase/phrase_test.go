package phrase

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestParseWhen(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Copenhagen") // +1 in winter, +2 in summer
	require.NoError(t, err)
	now := time.Date(2026, 3, 14, 12, 0, 0, 0, time.UTC)
	for text, want := range map[string]struct{ until, day string }{
		"2026-03-14":                {"2026-03-14T22:59:59.999999999Z", "2026-03-14"},
		"2026-03-29":                {"2026-03-29T21:59:59.999999999Z", "2026-03-29"}, // 23 hours long
		"2026-03-14T09:30":          {"2026-03-14T08:30:59.999999999Z", "2026-03-14"},
		"2026-03-14 09:30:15":       {"2026-03-14T08:30:15.999999999Z", "2026-03-14"},
		"2026-03-14T09:30:15.5":     {"2026-03-14T08:30:15.5Z", "2026-03-14"},
		"2026-03-14T23:30:00-02:00": {"2026-03-15T01:30:00.999999999Z", "2026-03-15"},
		"2026-10-25T02:30+02:00":    {"2026-10-25T00:30:59.999999999Z", "2026-10-25"},
		"2 days":                    {"2026-03-12T12:00:00Z", "2026-03-12"},
		"90 min":                    {"2026-03-14T10:30:00Z", "2026-03-14"},
		"3h ago":                    {"2026-03-14T09:00:00Z", "2026-03-14"},
	} {
		w, err := ParseWhen(text, zone, now)
		require.NoError(t, err, text)
		require.Equal(t, want.until, w.Until.UTC().Format(time.RFC3339Nano), text)
		require.Equal(t, want.day, w.Day, text)
	}
	for text, say := range map[string]string{
		"2026-10-25T02:30": "was twice: the clock in Europe/Copenhagen repeated that hour; write " +
			"2026-10-25T02:30+02:00 or 2026-10-25T02:30+01:00",
		"2026-03-29T02:30": "never was: the clock in Europe/Copenhagen skipped it",
		"2026-02-30":       "not a date of the calendar",
		"2026-02-30T10:00": "not a time of the calendar",
		"yesterday":        "is not a moment; write a time",
		"5 fortnights":     "is not a moment",
		"":                 "is not a moment",
	} {
		_, err := ParseWhen(text, zone, now)
		require.ErrorContains(t, err, say, text)
	}
}

// TestDaysWithoutAMidnight: the clock may skip it, and repeat it.
func TestDaysWithoutAMidnight(t *testing.T) {
	for _, c := range []struct{ zone, day, until string }{
		{"America/Sao_Paulo", "2018-11-03", "2018-11-04T02:59:59Z"}, // 00:00 became 01:00
		{"America/Sao_Paulo", "2018-11-04", "2018-11-05T01:59:59Z"},
		{"America/Sao_Paulo", "2018-02-17", "2018-02-18T02:59:59Z"}, // 00:00 became 23:00
		{"America/Havana", "2018-11-03", "2018-11-04T03:59:59Z"},    // 01:00 became 00:00
		{"Europe/Vienna", "2026-03-29", "2026-03-29T21:59:59Z"},
		{"UTC", "2026-02-28", "2026-02-28T23:59:59Z"},
	} {
		zone, err := time.LoadLocation(c.zone)
		require.NoError(t, err)
		w, err := ParseWhen(c.day, zone, time.Now())
		require.NoError(t, err)
		require.Equal(t, c.until, w.Until.UTC().Format(time.RFC3339), c)
	}
}

func TestUnits(t *testing.T) {
	require.Equal(t, []string{"0 B", "1023 B", "1.0 KiB", "1.0 MiB", "14.2 MiB", "-2.0 GiB"},
		[]string{Bytes(0), Bytes(1023), Bytes(1024), Bytes(1 << 20), Bytes(14889779), Bytes(-2 << 30)})
	require.Equal(t, []string{"40 ms", "1.4 s", "12 s", "12 m 30 s", "2 h 05 m"},
		[]string{Duration(40e6), Duration(14e8), Duration(12e9), Duration(750e9), Duration(125 * time.Minute)})
	require.Equal(t, []string{"just now", "1 minute ago", "47 hours ago", "3 days ago"},
		[]string{Ago(2e9), Ago(61e9), Ago(47 * time.Hour), Ago(73 * time.Hour)})
	require.Equal(t, []string{"1 table", "1,200 tables", "2 indexes", "3 primary keys", "2 copies"},
		[]string{Plural(1, "table"), Plural(1200, "table"), Plural(2, "index"), Plural(3, "primary key"), Plural(2,
			"copy")})
	for text, n := range map[string]int64{"20 GiB": 20 << 30, "500 MB": 500e6, "4096 B": 4096, "1.5KiB": 1536} {
		got, err := ParseBytes(text)
		require.NoError(t, err)
		require.Equal(t, n, got)
	}
	_, err := ParseBytes("20 gigs")
	require.ErrorContains(t, err, "is not a size")
}

func TestMatch(t *testing.T) {
	require.True(t, Match("season_*", "season_2026"))
	require.True(t, Match("*", "a/b c\"d'é\nx"))
	require.True(t, Match("?.db", "a.db"))
	require.False(t, Match("season_*", "Season_1"))
	require.False(t, Match("a.c", "abc"))
	require.False(t, Match("season", "season_2026"))
}

func TestFloor(t *testing.T) {
	for text, want := range map[string]Floor{"": {}, "15%": {Percent: 15}, "20 GiB": {Bytes: 20 << 30}} {
		got, err := ParseFloor(text)
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	for _, text := range []string{"150%", "-1%", "NaN%", "Inf%", "much"} {
		_, err := ParseFloor(text)
		require.Error(t, err, text)
	}
}

func TestWhatIsShownIsClean(t *testing.T) {
	for text, want := range map[string]string{
		"Skerryvoe – é": "Skerryvoe – é", "a\nb\tc": `a\nb\tc`, "\x1b[2Jx\x9b": `\x1b[2Jx\x9b`, "\u009b1m": `\u009b1m`,
		"txt\u202egnp": `txt\u202egnp`, "a\u200bb": `a\u200bb`, "\u2028": `\u2028`, "\xff": `\xff`,
		"\U000e0041": `\U000e0041`,
	} {
		require.Equal(t, want, Clean(text))
	}
	require.Equal(t, "a\n\\x1b", CleanLines("a\n\x1b"))
	require.Equal(t, "{\"é\\u009b\\u202e\\udb40\\udc41\"}\n", CleanJSON("{\"é\u009b\u202e\U000e0041\"}\n"))
	for text, want := range map[string]string{
		"postgres://ann:pw@db/x": "postgres://…@db/x", "mysql:ann:p@w@db": "mysql:…@db", "db1:5432": "db1:5432",
		"s3://b?access_key=AA&region=x": "s3://b?access_key=…&region=x", "/srv/a@b": "/srv/a@b",
	} {
		require.Equal(t, want, Redact(text))
	}
}

func TestRetainPhrases(t *testing.T) {
	r, err := ParseRetain("newest 5 fulls,  everything for 3 days, one a day for 14 days and one an hour for 1 week")
	require.NoError(t, err)
	require.Equal(t, []string{"the newest 5 good full dumps", "every dump of the last 3 days",
		"the last good dump of each day, for 14 days", "the last good dump of each hour, for 1 week"}, r.Sentences())
	for text, say := range map[string]string{
		"newest five fulls": `"five" is not a number`, "newest 0": `"0" is not a number`,
		"newest 5 foos":               `"foos" in "newest 5 foos"`,
		"one a fortnight for 3 weeks": `"fortnight" is no unit of time`,
		"everything for 3 moons":      `"moon" is no unit of time`,
		"keep all":                    `"keep all" cannot be understood`, "newest 5, ": `"" cannot be understood`,
		"one a day for 9999999 days": `"9999999" is not a number from 1 to 1,000,000`,
	} {
		_, err := ParseRetain(text)
		require.ErrorContains(t, err, say)
	}
	empty, err := ParseRetain("  ")
	require.NoError(t, err)
	require.Empty(t, empty.Clauses)

	last := time.Date(2026, 3, 31, 2, 30, 0, 0, time.UTC)
	require.Equal(t, "2026-02-28T02:30:00Z", Span{1, Month}.Before(last).Format(time.RFC3339))
	require.Equal(t, "2024-02-29T00:00:00Z", Span{12, Month}.Before(time.Date(2025, 2, 28, 0, 0, 0, 0, time.UTC)).
		AddDate(0, 0, 1).Format(time.RFC3339))
	require.Equal(t, "2026-W01", Week.Period(time.Date(2025, 12, 29, 0, 0, 0, 0, time.UTC)))
}
