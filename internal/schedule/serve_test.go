package schedule

import (
	"context"
	"fmt"
	"math/rand"
	"runtime"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/event"
	"grainkeep/internal/phrase"
	"grainkeep/internal/retain"
)

// fakeClock is one that a test moves: After tells the test how long the server wants to wait.
type fakeClock struct {
	mu    sync.Mutex
	now   time.Time
	waits chan time.Time // when the server wants to be woken
	ring  chan time.Time
}

func (c *fakeClock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now
}

func (c *fakeClock) After(d time.Duration) <-chan time.Time {
	c.waits <- c.Now().Add(d)
	return c.ring
}

func (c *fakeClock) set(t time.Time) {
	c.mu.Lock()
	c.now = t
	c.mu.Unlock()
}

// made is a run that was made: when, of which kind, and for which time.
type made struct {
	now  time.Time
	what What
	at   time.Time
}

// TestTwoYearsOfNights serves two years of a job with weekly, daily and 15-minute dumps in ten zones, with outages,
// and holds the runs against a reckoning of its own; the dumps are thinned, and what the phrase promises is there.
func TestTwoYearsOfNights(t *testing.T) {
	for _, name := range []string{"UTC", "Atlantic/Faroe", "Europe/Vienna", "America/New_York", "America/Sao_Paulo",
		"Asia/Kolkata",
		"Australia/Lord_Howe", "Pacific/Apia", "Africa/Casablanca", "Asia/Tehran"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			zone, err := time.LoadLocation(name)
			require.NoError(t, err)
			random := rand.New(rand.NewSource(int64(len(name))))
			plans := []Plan{plan(t, "j", Full, "02:30 on sunday"), plan(t, "j", Differential, "02:30"), plan(t, "j",
				Incremental,
				"each 15 min between 06:00 and 08:00")}
			for i := range plans {
				plans[i].CatchUp = 5 * time.Hour
			}
			start := time.Date(2024, 1, 1, 0, 0, 30, 0, time.UTC)
			end := start.AddDate(2, 0, 0)
			off := outages(random, start, end)
			got := serveThrough(t, plans, zone, start, end, off, random)
			want := reckon(plans, zone, start, end, off)
			for i := range min(len(want), len(got)) { // one by one: thousands are nothing to show
				require.Equal(t, want[i], got[i])
			}
			require.Len(t, got, len(want))
			require.Greater(t, len(got), 4000)
		})
	}
}

// outage is when the machine is off.
type outage struct{ from, to time.Time }

func outages(random *rand.Rand, start, end time.Time) (list []outage) {
	for at := start; at.Before(end); {
		from := at.Add(time.Duration(random.Intn(20*24*60)) * time.Minute)
		to := from.Add(time.Duration(1+random.Intn(3*24*60)) * time.Minute)
		list = append(list, outage{from, to})
		at = to
	}
	return list
}

// serveThrough moves a server's clock through the years, and gives what it did.
func serveThrough(t *testing.T, plans []Plan, zone *time.Location, start, end time.Time, off []outage,
	random *rand.Rand) (got []made) {
	clock := &fakeClock{now: start, waits: make(chan time.Time), ring: make(chan time.Time)}
	var kept keeper
	agenda := NewAgenda(plans, zone, func(string, What) time.Time { return time.Time{} }, start)
	s := NewServer(agenda, Serving{Clock: clock, Feed: &event.Feed{}, Longest: 20 * time.Hour,
		Start: func(_ context.Context, d Due) error {
			got = append(got, made{clock.Now().UTC(), d.What, d.At.UTC()})
			kept.dumped(t, zone, clock.Now(), d.What, random.Intn(10) > 0)
			return nil
		}})
	ctx, stop := context.WithCancel(context.Background())
	var done sync.WaitGroup
	done.Go(func() { s.Run(ctx) })
	for {
		wake := <-clock.waits
		for len(s.UnderWay()) > 0 {
			runtime.Gosched()
		}
		for _, o := range off {
			if !wake.Before(o.from) && wake.Before(o.to) {
				wake = o.to
			}
		}
		if !wake.Before(end) {
			break
		}
		clock.set(wake)
		clock.ring <- wake
	}
	stop()
	done.Wait()
	return got
}

// reckon says what should have been done: each time that is due is handled then, or when the machine is on again; of
// several of one plan that are handled together the last counts, unless it is too old; of several dumps the largest.
func reckon(plans []Plan, zone *time.Location, start, end time.Time, off []outage) (list []made) {
	when := map[time.Time]map[What]time.Time{}
	for _, p := range plans {
		for at := p.next(start, zone); !at.IsZero() && at.Before(end); at = p.next(at, zone) {
			handled := at
			for _, o := range off {
				if !at.Before(o.from) && at.Before(o.to) {
					handled = o.to
				}
			}
			if handled.Before(end) {
				if when[handled] == nil {
					when[handled] = map[What]time.Time{}
				}
				when[handled][p.What] = at // the later ones take the place of those before
			}
		}
	}
	for handled, due := range when {
		for _, what := range []What{Full, Differential, Incremental} {
			if at, is := due[what]; is && handled.Sub(at) <= 5*time.Hour {
				list = append(list, made{handled.UTC(), what, at.UTC()})
				break
			}
		}
	}
	slices.SortFunc(list, func(a, b made) int { return a.now.Compare(b.now) })
	return list
}

// keeper thins after each good dump, and looks whether what the phrase promises is there.
type keeper struct {
	items []retain.Item
	ever  []retain.Item
}

func (k *keeper) dumped(t *testing.T, zone *time.Location, now time.Time, what What, good bool) {
	it := retain.Item{ID: fmt.Sprintf("dump-%06d", len(k.ever)), Of: "j/a", Kind: map[What]string{Full: "full",
		Differential: "differential",
		Incremental:  "incremental"}[what], Moment: now, Good: good}
	for _, o := range slices.Backward(k.ever) { // on what it builds
		if o.Good && (what == Incremental || what == Differential && o.Kind == "full") {
			it.Base = o.ID
			break
		}
	}
	k.ever, k.items = append(k.ever, it), append(k.items, it)
	if len(k.ever)%97 != 0 { // now and then is enough
		return
	}
	r, err := phrase.ParseRetain("newest 3 fulls, everything for 3 days, one a day for 20 days")
	require.NoError(t, err)
	left := k.items[:0:0]
	there := map[string]bool{}
	for _, v := range retain.Plan(r, zone, now, k.items) {
		if v.Stays {
			left, there[v.ID] = append(left, v.Item), true
		}
	}
	k.items = left
	for _, o := range k.ever { // everything for 3 days, and what it builds on
		if o.Good && now.Sub(o.Moment) < 71*time.Hour {
			require.True(t, there[o.ID], "%s of %s is gone at %s", o.ID, o.Moment, now)
			require.True(t, o.Base == "" || there[o.Base], "%s builds on what is gone", o.ID)
		}
	}
	if len(k.ever) > 3000 {
		k.ever = k.ever[1000:]
	}
}

// TestOneJobNeverOverlapsItself: what is due again while it is being done is left out, and told; other things of the
// job wait for their turn, and so do other jobs.
func TestOneJobNeverOverlapsItself(t *testing.T) {
	clock := &fakeClock{now: time.Date(2026, 3, 1, 2, 29, 30, 0, time.UTC), waits: make(chan time.Time),
		ring: make(chan time.Time)}
	feed := &event.Feed{}
	var told []string
	feed.Listen(func(e event.Event) { told = append(told, e.Word()+" "+e.Text()) })
	started, release := make(chan Due), make(chan error)
	plans := []Plan{plan(t, "a", Full, "each 1 min"), plan(t, "b", Full, "02:30"), plan(t, "a", Drill, "02:30")}
	s := NewServer(NewAgenda(plans, time.UTC, func(string, What) time.Time { return time.Time{} }, clock.now),
		Serving{Clock: clock, Feed: feed,
			Start: func(_ context.Context, d Due) error {
				started <- d
				return <-release
			}})
	ctx, stop := context.WithCancel(context.Background())
	var done sync.WaitGroup
	done.Go(func() { s.Run(ctx) })
	next := func() {
		wake := <-clock.waits
		clock.set(wake)
		clock.ring <- wake
	}
	next()
	first := <-started
	next() // 02:31: the dump of a is due again
	<-clock.waits
	require.Len(t, s.UnderWay(), 3)
	require.False(t, s.Call(ctx, "a", Drill), "it waits already")
	release <- nil
	second := <-started
	release <- fmt.Errorf("boom")
	third := <-started
	stop()
	release <- nil
	done.Wait()
	require.ElementsMatch(t, []string{"a full dump", "b full dump", "a drill"}, []string{first.Job + " " +
		string(first.What),
		second.Job + " " + string(second.What), third.Job + " " + string(third.What)})
	require.Contains(t, told,
		"warning the full dump of a that was due at 02:31:00 is left out: the one of 02:30:00 is not done yet")
}

// TestClocksThatAreSet: a clock that is set back far begins anew, and one that jumps ahead misses runs.
func TestClocksThatAreSet(t *testing.T) {
	now := time.Date(2026, 3, 10, 12, 0, 0, 0, time.UTC)
	p := plan(t, "j", Full, "02:30")
	p.CatchUp = time.Hour
	a := NewAgenda([]Plan{p}, time.UTC, func(string, What) time.Time { return now.AddDate(0, 0, -3) }, now)
	due, missed := a.Due(now)
	require.Empty(t, due)
	require.Equal(t, "3 runs of j were missed, the last on 2026-03-10 02:30 UTC", missed[0].String())
	due, missed = a.Due(now.AddDate(10, 0, 0)) // the clock is ten years ahead
	require.Empty(t, due)
	require.Len(t, missed, 1)
	due, _ = a.Due(now) // and is set right
	require.Empty(t, due)
	due, _ = a.Due(now.Add(15 * time.Hour))
	require.Len(t, due, 1)
	a.Change([]Plan{plan(t, "j", Full, "03:00"), plan(t, "k", Full, "03:00")}, time.UTC, now.Add(15*time.Hour))
	due, _ = a.Due(now.Add(15*time.Hour + 1))
	require.Empty(t, due, "a new phrase counts from now on")
}
