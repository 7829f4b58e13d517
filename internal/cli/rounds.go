package cli

import (
	"errors"
	"fmt"
	"io"
	"time"

	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/job"
	"grainkeep/internal/phrase"
)

// Between two looks for what is stale; longer where a keep must be mounted for it.
const (
	checkEvery        = 5 * time.Minute
	checkMountedEvery = time.Hour
)

// each is called at least once a minute: it looks after what servers hold back of their logs, and tells people what is
// to be told.
func (n *night) each() {
	n.mu.Lock()
	n.looked = clock.Now()
	f := n.f
	n.mu.Unlock()
	n.watch(f)
	if len(f.Tell) == 0 || !n.rounds.CompareAndSwap(false, true) {
		return
	}
	go func() {
		defer n.rounds.Store(false)
		if err := n.round(f); err != nil && n.a.ctx.Err() == nil {
			n.a.tell(fmt.Sprintf("%s\n", phrase.Clean("people could not be told: "+err.Error())))
		}
	}()
}

// round tells what is stale, the summaries that are due, and what could not be sent.
func (n *night) round(f *config.File) (err error) {
	b := n.aside()
	defer func() { err = errors.Join(append(b.leave(), err)...) }()
	t, err := b.teller(f)
	if err != nil {
		return err
	}
	now := clock.Now()
	if now.Sub(n.checked) >= betweenLooks(f) {
		n.checked = now
		if err := b.tellStates(f, t); err != nil {
			return err
		}
	}
	if err := b.summaries(f, t, now); err != nil {
		return err
	}
	return errors.Join(t.Send(b.ctx)...)
}

// betweenLooks is how long it is at least from one look at all keeps to the next.
func betweenLooks(f *config.File) time.Duration {
	for _, k := range f.Keep {
		if len(k.Before) > 0 {
			return checkMountedEvery
		}
	}
	return checkEvery
}

// watch looks what servers hold back of their logs, every few minutes, and lets go of what is past its job's limit.
func (n *night) watch(f *config.File) {
	now := clock.Now()
	if len(job.Of(f).Followed()) == 0 || !n.watching.CompareAndSwap(false, true) {
		return
	}
	if now.Sub(n.watched) < betweenLooks(f) {
		n.watching.Store(false)
		return
	}
	n.watched = now
	go func() {
		defer n.watching.Store(false)
		b := n.aside()
		slots := b.watched(f, n.feed)
		for _, e := range b.leave() {
			n.a.mention(e)
		}
		n.mu.Lock()
		n.slots = slots
		n.mu.Unlock()
	}()
}

// aside is an app that works beside this one, and shows nothing.
func (n *night) aside() *app {
	return &app{screen: screen{stdout: io.Discard, stderr: io.Discard}, ctx: n.a.ctx, configPath: n.path, quiet: true,
		serving: true}
}
