package phrase

import (
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/require"
)

// TestSchedulesAgainstEveryMinute holds two years of due times, in ten zones with their clock changes,
// against a reckoning that looks at each minute: what the clock shows for the first time is due, and
// so is what it skipped.
func TestSchedulesAgainstEveryMinute(t *testing.T) {
	weekday := func(days ...time.Weekday) func(time.Time) bool {
		return func(x time.Time) bool {
			for _, d := range days {
				if x.Weekday() == d {
					return true
				}
			}
			return false
		}
	}
	cases := []struct {
		text string
		due  func(wall time.Time) bool // wall is the clock's face, as a time in UTC
	}{
		{"02:30 on sunday", func(w time.Time) bool { return w.Format("15:04") == "02:30" && weekday(0)(w) }},
		{"00:00, 01:30 and 23:59 on monday to saturday", func(w time.Time) bool {
			c := w.Format("15:04")
			return (c == "00:00" || c == "01:30" || c == "23:59") && !weekday(0)(w)
		}},
		{"each 45 min between 00:15 and 03:30", func(w time.Time) bool {
			m := w.Hour()*60 + w.Minute()
			return m >= 15 && m <= 210 && (m-15)%45 == 0
		}},
		{"04:00 on the last day, day 15 and the first monday", func(w time.Time) bool {
			return w.Format("15:04") == "04:00" && (w.AddDate(0, 0, 1).Day() == 1 || w.Day() == 15 || w.Day() <= 7 &&
				weekday(1)(w))
		}},
		{"*/20 2 * * 0,6", func(w time.Time) bool { return w.Hour() == 2 && w.Minute()%20 == 0 && weekday(0, 6)(w) }},
		{"30 2 1 * 5", func(w time.Time) bool {
			return w.Format("15:04") == "02:30" && (w.Day() == 1 || weekday(5)(w))
		}},
	}
	for _, name := range []string{"UTC", "Atlantic/Faroe", "Europe/Vienna", "America/New_York", "America/Sao_Paulo",
		"America/Havana",
		"Australia/Lord_Howe", "Pacific/Apia", "Africa/Casablanca", "Asia/Tehran"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			zone, err := time.LoadLocation(name)
			require.NoError(t, err)
			start := time.Date(2017, 1, 1, 0, 0, 0, 0, time.UTC)
			if name == "Pacific/Apia" { // a day that never was: the 30th of December 2011
				start = time.Date(2011, 1, 1, 0, 0, 0, 0, time.UTC)
			}
			end := start.AddDate(2, 0, 0)
			want := make([][]time.Time, len(cases))
			face := func(x time.Time) time.Time {
				_, offset := x.In(zone).Zone()
				return x.Add(time.Duration(offset) * time.Second)
			}
			shown := face(start).Add(-time.Minute) // the latest that the clock has shown
			for x := start; x.Before(end); x = x.Add(time.Minute) {
				now := face(x)
				for w := shown.Add(time.Minute); !w.After(now); w = w.Add(time.Minute) {
					for i, c := range cases {
						if n := len(want[i]); c.due(w) && (n == 0 || want[i][n-1] != x) {
							want[i] = append(want[i], x)
						}
					}
					shown = w
				}
			}
			for i, c := range cases {
				s, err := ParseSchedule(c.text)
				require.NoError(t, err, c.text)
				at := start.Add(-time.Second)
				for _, w := range want[i] {
					at = s.Next(at, zone)
					require.Equal(t, w, at.UTC(), "%s in %s", c.text, name)
				}
			}
		})
	}
}

func TestSchedulePhrases(t *testing.T) {
	for text, says := range map[string]string{
		"02:30 on sunday":                           "at 02:30, on sunday",
		"each 15 min between 06:00 and 22:00":       "each 15 min between 06:00 and 22:00, every day",
		"03:00 on the first monday from 2026-04-01": "at 03:00, on the first monday, from 2026-04-01",
		"5 4 * * *": "as the crontab expression 5 4 * * * says",
	} {
		s, err := ParseSchedule(text)
		require.NoError(t, err, text)
		require.Equal(t, says, s.String())
	}
	for text, say := range map[string]string{
		"25:00": `"25:00" is not a time of the day`, "02:30 on caturday": `"caturday" is not a day`,
		"each 15 parsecs": `"parsecs" in "each 15 parsecs" is no unit here`, "each 0 min": `"0" in "each 0 min"`,
		"each 5 min between 22:00 and 06:00": "a span does not go over midnight",
		"02:30 on day 32":                    `"32" is not a day of the month`,
		"02:30 from tomorrow":                `"tomorrow" is not a date`, "61 * * * *": "is not a crontab expression",
		"": `"" is not a time`,
	} {
		_, err := ParseSchedule(text)
		require.ErrorContains(t, err, say, text)
	}
	s, err := ParseSchedule("02:30 from 2026-04-01 until 2026-04-02")
	require.NoError(t, err)
	at := s.Next(time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC), time.UTC)
	require.Equal(t, "2026-04-01T02:30:00Z", at.Format(time.RFC3339))
	at = s.Next(at, time.UTC)
	require.True(t, s.Next(at, time.UTC).IsZero(), "nothing after the last date")
}
