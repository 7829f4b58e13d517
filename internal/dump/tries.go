package dump

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/phrase"
	"grainkeep/internal/store"
)

// The waits between tries grow from the first to the longest.
const (
	firstWait   = 15 * time.Second
	longestWait = 15 * time.Minute
)

// passing are the codes of failures that may go away by themselves: those of connections.
var passing = []string{"source-unreachable", "connection-lost", "server-silent"}

// Run takes the dumps of a job. A database that fails does not keep the others from being dumped. The error is for
// what stops the whole run. A run whose connection fails is tried again, as often as the job says: as a whole, since
// its databases are of one moment.
func Run(ctx context.Context, j *Job, feed *event.Feed) (res *Result, err error) {
	if err := j.Keep.Writes(); err != nil {
		return nil, err
	}
	if j.Limit > 0 {
		var cancel func()
		ctx, cancel = context.WithTimeoutCause(ctx, j.Limit, fault.New("limit-reached", nil,
			"the dumps of %s took longer than %s, the job's limit", j.Name, phrase.Duration(j.Limit)).
			Advise("what was unfinished is removed; see what held it up, or give the job more time"))
		defer cancel()
	}
	run := j.Run
	for n, wait := 1, firstWait; ; n, wait = n+1, min(2*wait, longestWait) {
		if run == "" {
			run = keep.NewRun()
		}
		res, err = once(ctx, j, run, feed)
		cause := passed(res, err)
		if cause == nil || n >= max(1, j.Tries) || ctx.Err() != nil {
			return res, err
		}
		run = "" // what a try has dumped is a run of its own
		feed.Warn("tried-again", "", "try %d of %d failed (%v); the next is in %s", n, j.Tries, cause,
			phrase.Duration(wait))
		after := j.waiting
		if after == nil {
			after = time.After
		}
		select {
		case <-ctx.Done():
			return res, context.Cause(ctx)
		case <-after(wait):
		}
	}
}

// passed gives a failure that may go away by itself, if there was one.
func passed(res *Result, err error) error {
	list := []error{err}
	if res != nil {
		for _, f := range res.Failed {
			list = append(list, f.Err)
		}
	}
	for _, e := range list {
		var f *fault.Error
		if errors.As(e, &f) && slices.Contains(passing, f.Code) {
			return e
		}
	}
	return nil
}

// lockJob takes the job's lease, and waits for another run of it as long as the job says.
func lockJob(ctx context.Context, j *Job, feed *event.Feed) (store.Lease, error) {
	until := time.Now().Add(j.Wait)
	for told := false; ; told = true {
		lease, err := j.Keep.LockJob(ctx, j.Name)
		if !fault.HasCode(err, "job-running") || !time.Now().Before(until) {
			if err != nil && j.Wait > 0 {
				err = fmt.Errorf("waited %s: %w", phrase.Duration(j.Wait), err)
			}
			return lease, err
		}
		if !told {
			feed.Note("", "%v; waiting for it, at most %s", err, phrase.Duration(j.Wait))
		}
		select {
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case <-time.After(time.Second):
		}
	}
}
