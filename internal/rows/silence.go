package rows

import (
	"context"
	"sync/atomic"
	"time"

	"grainkeep/internal/fault"
	"grainkeep/internal/phrase"
)

// Silent is the error about a server that says nothing any more: stopped, or cut off
// without a word. It keeps locks and a lease for as long as somebody waits for it.
func Silent(bound time.Duration) error {
	return fault.New("server-silent", nil, "the server has said nothing for %s", phrase.Duration(bound)).
		Advise("look at the server; if it needs longer for an answer, raise 'silence' of the job")
}

// Within runs something that the server should answer within a time.
func Within(ctx context.Context, bound time.Duration, f func(context.Context) error) error {
	ctx, cancel := context.WithTimeoutCause(ctx, bound, Silent(bound))
	defer cancel()
	err := f(ctx)
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

// listening gives a context that ends when nothing has beaten for the time of the bound;
// 0: never.
func listening(ctx context.Context, bound time.Duration, beats *atomic.Int64) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancelCause(ctx)
	if bound > 0 {
		go func() {
			tick := time.NewTicker(max(bound/20, time.Millisecond))
			defer tick.Stop()
			for last, since := beats.Load(), time.Now(); ; {
				select {
				case <-ctx.Done():
					return
				case <-tick.C:
				}
				if now := beats.Load(); now != last {
					last, since = now, time.Now()
				} else if time.Since(since) > bound {
					cancel(Silent(bound))
					return
				}
			}
		}()
	}
	return ctx, func() { cancel(nil) }
}
