package retain

import (
	"fmt"
	"math/rand"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/phrase"
)

func parse(t *testing.T, text string) phrase.Retain {
	t.Helper()
	r, err := phrase.ParseRetain(text)
	require.NoError(t, err)
	return r
}

func at(day int, hour int) time.Time { return time.Date(2026, 3, day, hour, 0, 0, 0, time.UTC) }

// why gives what becomes of each dump, by its id.
func why(verdicts []Verdict) map[string]string {
	m := map[string]string{}
	for _, v := range verdicts {
		m[v.ID] = map[bool]string{true: "stays: ", false: "goes: "}[v.Stays] + v.Why
	}
	return m
}

func TestWhatStaysAndWhy(t *testing.T) {
	items := []Item{
		{ID: "held", Moment: at(1, 2), Good: true, Hold: "audit"},
		{ID: "proven", Moment: at(2, 2), Good: true, Proven: true},
		{ID: "old", Moment: at(3, 2), Good: true},
		{ID: "week", Moment: at(8, 2), Good: true}, // a Sunday
		{ID: "failed", Moment: at(9, 2)},
		{ID: "new", Moment: at(10, 2), Good: true},
		{ID: "bad", Moment: at(11, 2)},
		{ID: "ahead", Moment: at(30, 2), Good: true},
	}
	for i := range items {
		items[i].Of, items[i].Kind = "j/a", "full"
	}
	got := why(Plan(parse(t, "newest 1 full, one a week for 2 weeks"), time.UTC, at(11, 12), items))
	require.Equal(t, map[string]string{
		"held": "stays: on hold: audit", "proven": "stays: the newest proven one", "old": "goes: no clause keeps it",
		"week":   "stays: one a week for 2 weeks: the last of 2026-W10",
		"failed": "goes: a drill failed it, and a newer one is good",
		"new":    "stays: newest 1 full", "bad": "stays: no newer dump is good",
		"ahead": "stays: its moment is in the future",
	}, got, "a clock that is ahead takes nobody's place")
	for _, v := range Plan(phrase.Retain{}, time.UTC, at(11, 12), items) {
		require.True(t, v.Stays)
	}
	require.Equal(t, "stays: no newer dump is good", why(Plan(parse(t, "newest 1 dump"), time.UTC, at(20, 0),
		[]Item{{ID: "a", Of: "j/a", Moment: at(1, 0)}}))["a"], "a failing job removes nothing")
}

// TestChainsStayWhole: nothing on which a dump that stays builds is removed.
func TestChainsStayWhole(t *testing.T) {
	items := []Item{
		{ID: "f1", Kind: "full", Moment: at(1, 0)}, {ID: "i1", Kind: "incremental", Base: "f1", Moment: at(1, 6)},
		{ID: "f2", Kind: "full", Moment: at(5, 0)}, {ID: "d2", Kind: "differential", Base: "f2", Moment: at(6, 0)},
		{ID: "i2", Kind: "incremental", Base: "d2", Moment: at(6, 6)}, {ID: "i3", Kind: "incremental", Base: "i2",
			Moment: at(6, 12)},
	}
	for i := range items {
		items[i].Of, items[i].Good = "j/a", true
	}
	got := why(Plan(parse(t, "newest 1 incremental"), time.UTC, at(7, 0), items))
	require.Equal(t, map[string]string{"f1": "goes: no clause keeps it", "i1": "goes: no clause keeps it",
		"f2": "stays: i3 builds on it", "d2": "stays: i3 builds on it", "i2": "stays: i3 builds on it",
		"i3": "stays: newest 1 incremental"}, got)
}

// TestTwoYearsOfRetention thins after each run of two years, in ten zones, with outages and failures,
// and at each point holds what is left against a reckoning of its own over all dumps that there ever
// were: whatever the phrase promises is still there.
func TestTwoYearsOfRetention(t *testing.T) {
	for _, name := range []string{"UTC", "Atlantic/Faroe", "Europe/Vienna", "America/New_York", "America/Sao_Paulo",
		"Asia/Kolkata",
		"Australia/Lord_Howe", "Pacific/Apia", "Africa/Casablanca", "Asia/Tehran"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			zone, err := time.LoadLocation(name)
			require.NoError(t, err)
			random := rand.New(rand.NewSource(int64(len(name))))
			r := parse(t, "newest 5 fulls, everything for 3 days, one a day for 14 days, one a week for 8 weeks, one a month for 1 year")
			var ever, left []Item
			now := time.Date(2024, 1, 1, 0, 30, 0, 0, time.UTC)
			full, last := "", ""
			for n := range 2 * 365 * 4 {
				now = now.Add(6 * time.Hour)
				if random.Intn(60) == 0 {
					now = now.Add(time.Duration(random.Intn(9*24)) * time.Hour) // the machine was off
				}
				it := Item{ID: fmt.Sprint("dump-", n), Of: "j/a", Kind: "incremental", Base: last, Moment: now,
					Good:   random.Intn(12) > 0,
					Proven: random.Intn(20) == 0}
				if full == "" || n%28 == 0 {
					it.Kind, it.Base, full = "full", "", it.ID
				} else if n%4 == 0 {
					it.Kind, it.Base = "differential", full
				}
				if last = it.ID; !it.Good {
					it.Proven = false
				}
				ever, left = append(ever, it), append(left, it)
				var stay []Item
				for _, v := range Plan(r, zone, now, left) {
					if v.Stays {
						stay = append(stay, v.Item)
					}
				}
				left = stay
				if n%56 == 0 {
					requirePromise(t, zone, now, ever, left)
				}
			}
			require.Less(t, len(left), 400, "and it does thin")
		})
	}
}

// requirePromise reckons by brute force what must be there.
func requirePromise(t *testing.T, zone *time.Location, now time.Time, ever, left []Item) {
	t.Helper()
	there := map[string]Item{}
	for _, it := range left {
		there[it.ID] = it
	}
	need := func(it Item, why string) {
		for id := it.ID; id != ""; id = there[id].Base {
			_, ok := there[id]
			require.True(t, ok, "%s of %s is gone at %s: %s", id, it.Moment.In(zone), now.In(zone), why)
		}
	}
	fulls := 0
	for i := len(ever) - 1; i >= 0 && fulls < 5; i-- {
		if ever[i].Good && ever[i].Kind == "full" {
			fulls++
			need(ever[i], "newest 5 fulls")
		}
	}
	local := func(x time.Time) string { return x.In(zone).Format("2006-01-02T15:04:05") }
	for i, it := range ever {
		if !it.Good {
			continue
		}
		if local(it.Moment) >= local(now.In(zone).AddDate(0, 0, -3)) {
			need(it, "everything for 3 days")
		}
		for _, c := range []struct {
			name   string
			from   time.Time
			period func(time.Time) string
		}{
			{"a day", now.In(zone).AddDate(0, 0, -14),
				func(x time.Time) string { return x.In(zone).Format("20060102") }},
			{"a week", now.In(zone).AddDate(0, 0, -56), func(x time.Time) string {
				x = x.In(zone)
				return x.AddDate(0, 0, -int(x.Weekday()+6)%7).Format("20060102") // its Monday
			}},
			{"a month", now.In(zone).AddDate(-1, 0, 0),
				func(x time.Time) string { return x.In(zone).Format("200601") }},
		} {
			later := false
			for k := i + 1; k < len(ever) && !later && c.period(ever[k].Moment) == c.period(it.Moment); k++ {
				later = ever[k].Good
			}
			if !later && it.Moment.After(c.from.Add(time.Hour)) { // a clock change on that very day may make it an hour less
				need(it, "one "+c.name)
			}
		}
	}
}

// TestAClosingDumpTakesNoOthersPlace: of a full and the dump that closes the chain before it, which have one moment, the full
// counts; the other goes with its chain.
func TestAClosingDumpTakesNoOthersPlace(t *testing.T) {
	now := time.Date(2026, 3, 14, 12, 0, 0, 0, time.UTC)
	items := []Item{
		{ID: "old", Of: "j/d", Kind: "full", Moment: now.Add(-48 * time.Hour), Good: true},
		{ID: "old+1", Of: "j/d", Kind: "incremental", Base: "old", Moment: now.Add(-24 * time.Hour), Good: true},
		{ID: "end", Of: "j/d", Kind: "incremental", Base: "old+1", Closes: true, Moment: now.Add(-time.Hour), Good: true},
		{ID: "new", Of: "j/d", Kind: "full", Moment: now.Add(-time.Hour), Good: true},
	}
	for text, want := range map[string][]bool{"newest 1": {false, false, false, true}, "newest 2": {true, true, true, true},
		"one a day for 1 day": {true, true, true, true}, "newest 1 fulls": {false, false, false, true}} {
		r, err := phrase.ParseRetain(text)
		require.NoError(t, err)
		for i, v := range Plan(r, time.UTC, now, items) {
			require.Equal(t, want[i], v.Stays, "%s: %s: %s", text, v.ID, v.Why)
		}
	}
}
