package cli

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/job"
	"grainkeep/internal/journal"
	"grainkeep/internal/schedule"
)

// Machines that share a journal share what is due: one of them does it, and shows by its heartbeat that it is alive; when
// that stops, another takes it over. A machine that cannot reach the journal does nothing, and stops what it does: others
// count it as lost.

// turns are what a machine with a shared journal has to ask before it does anything.
type turns struct {
	n       *night
	journal *journal.Journal
	silence time.Duration // after which a machine has lost its turn
	work    sync.WaitGroup
}

// shared opens the turns of a shared journal; nil: this machine has a journal of its own.
func (n *night) shared(f *config.File) (*turns, error) {
	if f.Journal.Source == "" {
		return nil, nil
	}
	j, _, err := job.Of(f).Journal(n.a.ctx)
	if err != nil {
		return nil, err
	}
	t := &turns{n: n, journal: j}
	t.silence, err = f.Takeover()
	return t, err
}

// do does something that is due, if it is this machine's turn. Where it is another's, somebody watches that.
func (t *turns) do(ctx context.Context, d schedule.Due) error {
	turn, stand, err := t.journal.Take(ctx, d.Job, string(d.What), d.At, t.silence)
	switch {
	case err != nil:
		t.work.Go(func() { t.watch(ctx, d) }) // it may be reached later
		return err
	case stand == journal.Another:
		t.work.Go(func() { t.watch(ctx, d) })
		return nil
	case stand == journal.Over:
		return nil
	}
	return t.mine(ctx, d, turn)
}

// watch asks for a turn until it is done, or this machine's.
func (t *turns) watch(ctx context.Context, d schedule.Due) {
	tick := time.NewTicker(t.silence / 4)
	defer tick.Stop()
	for clock.Since(d.At) < schedule.DefaultCatchUp {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		turn, stand, err := t.journal.Take(ctx, d.Job, string(d.What), d.At, t.silence)
		if err != nil || stand == journal.Another {
			continue
		}
		if stand == journal.Mine {
			t.n.a.say("the %s of %s is taken over: the machine that had it is lost", d.What, d.Job)
			if err := t.mine(ctx, d, turn); err != nil {
				t.n.a.tell(fmt.Sprintf("%s: %v\n", d.Job, err))
			}
		}
		return
	}
}

// mine does something, with a heartbeat. Without one it is stopped in time: then another machine does it.
func (t *turns) mine(serving context.Context, d schedule.Due, turn *journal.Turn) error {
	ctx, lose := context.WithCancelCause(serving)
	defer lose(nil)
	ended := make(chan struct{})
	go t.beat(ctx, turn, lose, ended)
	result, err := t.run(ctx, d)
	close(ended)
	if cause := context.Cause(ctx); errors.Is(cause, errTurnLost) {
		return cause
	}
	finish, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	if err != nil && serving.Err() != nil { // this machine is being stopped: another one need not wait for its silence
		return errors.Join(err, t.journal.Yield(finish, turn))
	}
	return errors.Join(err, t.journal.Finish(finish, turn, result))
}

// run does something, unless it was done by a machine that was lost before it could say so. What such a machine still has
// in its hands, by the keep's lease, is waited for.
func (t *turns) run(ctx context.Context, d schedule.Due) (result string, err error) {
	for {
		if t.done(ctx, d) {
			return "done", nil
		}
		err = t.n.startNow(ctx, d)
		if !errors.Is(err, errRunning) {
			break
		}
		select {
		case <-ctx.Done():
			return "stopped", context.Cause(ctx)
		case <-time.After(t.silence / 4):
		}
	}
	if err != nil {
		return err.Error(), err
	}
	return "good", nil
}

var errTurnLost = errors.New("the shared journal could not be reached: it was stopped, and another machine does it")

// beat shows that this machine is alive.
func (t *turns) beat(ctx context.Context, turn *journal.Turn, lose func(error), ended <-chan struct{}) {
	tick := time.NewTicker(t.silence / 8)
	defer tick.Stop()
	last := time.Now()
	for {
		select {
		case <-ended:
			return
		case <-tick.C:
		}
		asked, cancel := context.WithTimeout(ctx, t.silence/8)
		still, err := t.journal.Beat(asked, turn)
		cancel()
		switch {
		case err == nil && still:
			last = time.Now()
		case err == nil || time.Since(last) > t.silence/2: // it is somebody else's, or will be soon
			lose(errTurnLost)
			return
		}
	}
}

// done says whether something due was done already, by the journal's runs and by what the keep holds.
func (t *turns) done(ctx context.Context, d schedule.Due) bool {
	b := t.n.aside()
	b.ctx = ctx
	f := t.n.config()
	held, err := b.lastOf(f, []schedule.Plan{{Job: d.Job, What: d.What}})
	at := time.Time{}
	if err == nil {
		at = held(d.Job, d.What)
	}
	r, e := t.journal.Last(ctx, d.Job, d.What.Command(), journal.Good, journal.Warned)
	if e == nil && r != nil && r.Started.After(at) && !(d.What.Dump() && f.Job[d.Job].Chained()) {
		at = r.Started
	}
	for _, err := range b.leave() {
		t.n.a.mention(err)
	}
	return !at.Before(d.At)
}
