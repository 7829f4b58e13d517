package dump

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	_ "grainkeep/internal/store/folder"
)

// away is an engine whose server cannot be reached, a few times.
type away struct {
	engine.Driver
	opened int
	fail   func(n int) error
}

func (a *away) Open(context.Context, engine.Location) (engine.Source, error) {
	a.opened++
	return nil, a.fail(a.opened)
}

func TestAConnectionThatFailsIsTriedAgain(t *testing.T) {
	ctx := context.Background()
	k, err := keep.Create(ctx, t.TempDir(), false)
	require.NoError(t, err)
	refused := fault.New("login-refused", nil, "the password is wrong")
	var waits []time.Duration
	try := func(fail func(n int) error, tries int) (*away, error) {
		a := &away{fail: fail}
		engine.Register("away", a)
		waits = nil
		_, err := Run(ctx, &Job{Name: "nightly", Keep: k, Zone: time.UTC, Source: engine.Location{Engine: "away"},
			Tries: tries,
			waiting: func(d time.Duration) <-chan time.Time {
				waits = append(waits, d)
				c := make(chan time.Time, 1)
				c <- time.Time{}
				return c
			}}, &event.Feed{})
		return a, err
	}
	gone := func(int) error { return fault.New("source-unreachable", nil, "no route") }
	a, err := try(gone, 9)
	require.True(t, fault.HasCode(err, "source-unreachable"))
	require.Equal(t, 9, a.opened)
	require.Equal(t, []time.Duration{15 * time.Second, 30 * time.Second, time.Minute, 2 * time.Minute, 4 * time.Minute,
		8 * time.Minute,
		15 * time.Minute, 15 * time.Minute}, waits)
	a, _ = try(gone, 0)
	require.Equal(t, 1, a.opened)
	a, err = try(func(n int) error {
		if n < 3 {
			return gone(n)
		}
		return refused
	}, 9)
	require.ErrorIs(t, err, refused, "what will not go away is not tried again")
	require.Equal(t, 3, a.opened)
	ended, cancel := context.WithTimeoutCause(ctx, time.Nanosecond, refused)
	defer cancel()
	<-ended.Done()
	a = &away{fail: gone}
	engine.Register("away", a)
	_, err = Run(ended, &Job{Name: "nightly", Keep: k, Zone: time.UTC, Source: engine.Location{Engine: "away"},
		Tries: 9}, &event.Feed{})
	require.Error(t, err)
	require.LessOrEqual(t, a.opened, 1)
}

func TestWhatShrank(t *testing.T) {
	require.Empty(t, smaller("the folder", "entries", 100, 51, fewestLost))
	require.Empty(t, smaller("the folder", "entries", 60, 0, fewestLost), "only a few")
	require.Equal(t, []string{"the stream has 10 bytes, and had 100,000 in the last dump"}, smaller("the stream",
		"bytes", 100_000, 10, fewestBytes))
	untaken, aside := Untaken([]engine.Database{{Name: "a"}, {Name: "b"}, {Name: "c"}, {Name: "sys", System: true},
		{Name: "a_before_20260314t093000z"}}, []Choice{{Databases: []string{"a"}}, {Databases: []string{"x*"},
		Optional: []string{"c", "b"}, Except: []string{"b"}}})
	require.Empty(t, untaken, "c is taken, b is left out by name")
	require.Equal(t, []string{"a_before_20260314t093000z"}, aside)
	untaken, _ = Untaken([]engine.Database{{Name: "a"}, {Name: "b"}}, []Choice{{Databases: []string{"a"}}})
	require.Equal(t, []string{"b"}, untaken)
}
