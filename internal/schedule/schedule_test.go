package schedule

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/phrase"
)

func plan(t *testing.T, job string, what What, texts ...string) Plan {
	t.Helper()
	when, err := Schedules(texts)
	require.NoError(t, err)
	return Plan{Job: job, What: what, When: when}
}

func TestWhatIsDueNext(t *testing.T) {
	now := time.Date(2026, 3, 28, 12, 0, 0, 0, time.UTC) // a Saturday
	last := func(job string, what What) time.Time {
		if job == "b" && what == Full {
			return now.Add(-30 * time.Hour)
		}
		return time.Time{}
	}
	due := Next([]Plan{plan(t, "b", Drill, "02:30 on sunday"), plan(t, "b", Full, "02:30", "14:00 on sunday"),
		plan(t, "a", Full, "02:30 on sunday")}, last, now, time.UTC, 5)
	var got []string
	for _, d := range due {
		got = append(got, fmt.Sprintf("%s %s %s: %s", d.At.Format("Mon 15:04"), d.Job, d.What, d.Why))
	}
	require.Equal(t, []string{"Sun 02:30 a full dump: none yet in this keep",
		"Sun 02:30 b full dump: 2 days after the one before",
		"Sun 02:30 b drill: none yet", "Sun 14:00 b full dump: 12 hours after the one before",
		"Mon 02:30 b full dump: 13 hours after the one before"},
		got, "a drill comes after the dump")
	require.Empty(t, Next([]Plan{plan(t, "a", Full, "02:30 until 2026-01-01")}, last, now, time.UTC, 5))
}

// TestCronSaysTheSame: what is exported to cron is due at the same times, by the program's own reading
// of a crontab.
func TestCronSaysTheSame(t *testing.T) {
	for _, text := range []string{"02:30 on sunday", "00:00, 01:30 and 13:30 on monday to saturday",
		"each 15 min between 06:00 and 22:00",
		"each 45 min on weekdays", "04:00 on day 15 and tuesday", "05:00 on saturday to monday"} {
		s, err := phrase.ParseSchedule(text)
		require.NoError(t, err)
		lines, err := s.Crontab()
		require.NoError(t, err)
		both := plan(t, "j", Full, lines...)
		at := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
		for range 300 {
			want := s.Next(at, time.UTC)
			require.Equal(t, want, both.next(at, time.UTC), "%s as %v", text, lines)
			at = want
		}
	}
}

// TestWhatIsExportedIsHarmless: no path becomes a line, a command or a setting of its own.
func TestWhatIsExportedIsHarmless(t *testing.T) {
	evil := "/srv/a b'; reboot #\n%h $HOME \"q\"/keep"
	m := Machine{Program: "/usr/local/bin/grainkeep", Config: evil, User: "dumper", Zone: "Europe/Vienna", Local: "UTC",
		Reads: []string{evil}, Writes: []string{evil}}
	plans := []Plan{plan(t, "nightly", Full, "02:30 on sunday", "03:00 on the last day"), plan(t, "nightly", Drill,
		"5 4 * * *")}
	text, cannot := Crontab(plans, m)
	require.Len(t, cannot, 2)
	require.Contains(t, cannot[0], "cron goes by the machine's zone (UTC)")
	require.Contains(t, cannot[1], "cron knows neither the last day of a month")
	for l := range strings.Lines(text) {
		require.Regexp(t, `^(#|\n|30 2 \* \* 0  |5 4 \* \* \*  )`, l)
		if l[0] != '#' && l[0] != '\n' {
			require.NotRegexp(t, `[^\\]%`, l, "cron takes a % for a line feed")
		}
	}
	units, cannot := Units(plans, m)
	require.Len(t, units, 2)
	require.Len(t, cannot, 1)
	require.Equal(t, "grainkeep-nightly-full.service", units[0].Name)
	require.Contains(t, units[1].Text,
		"OnCalendar=Sun *-*-* 02:30:00 Europe/Vienna\nOnCalendar=*-*~01 03:00:00 Europe/Vienna\n")
	for l := range strings.Lines(units[0].Text) {
		require.Regexp(t, `^(#|\n|\[|[A-Z][A-Za-z]+=)`, l)
		require.True(t, l[0] == '#' || !strings.Contains(l, "%h $HOME"), l)
	}
	require.Contains(t, units[0].Text, "NoNewPrivileges=yes")
}

// TestTheGuideIsTrue: the unit and the crontab that the guide prints are what is exported.
func TestTheGuideIsTrue(t *testing.T) {
	guide, err := os.ReadFile("../../docs/guide.md")
	require.NoError(t, err)
	m := Machine{Program: "/usr/local/bin/grainkeep", Config: "/etc/grainkeep/grainkeep.toml", User: "dumper",
		Zone: "UTC", Local: "UTC",
		Reads: []string{"/etc/grainkeep/quay.secret"}, Writes: []string{"/var/lib/grainkeep", "/mnt/barn/dumps"}}
	plans := []Plan{plan(t, "nightly", Full, "02:30 on monday to saturday")}
	text, cannot := Crontab(plans, m)
	require.Empty(t, cannot)
	lines := strings.Split(strings.TrimSpace(text), "\n")
	require.Contains(t, string(guide), "\n"+lines[len(lines)-1]+"\n")
	require.Contains(t, string(guide), "```\n"+ServiceUnit(plans, m).Text+"```\n")
}
