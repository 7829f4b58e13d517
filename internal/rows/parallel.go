package rows

import (
	"context"
	"runtime/debug"
	"sync"

	"grainkeep/internal/fault"
)

// InParallel runs workers over a list until it is empty or one of them fails.
func InParallel[T any](ctx context.Context, workers int, list []T, work func(ctx context.Context,
	next func() (T, bool)) error) error {
	workers = min(workers, len(list))
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var mu sync.Mutex
	next := func() (T, bool) {
		mu.Lock()
		defer mu.Unlock()
		if len(list) == 0 || ctx.Err() != nil {
			var none T
			return none, false
		}
		t := list[0]
		list = list[1:]
		return t, true
	}
	var group sync.WaitGroup
	errs := make([]error, workers)
	for i := range workers {
		group.Go(func() {
			if errs[i] = safely(func() error { return work(ctx, next) }); errs[i] != nil {
				cancel(errs[i])
			}
		})
	}
	group.Wait()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return nil
}

// safely turns a panic into an error: a defect that a damaged or hostile dump wakes must
// not keep the others from cleaning up behind them.
func safely(work func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fault.New("defect", nil, "a defect of grainkeep stopped the work: %v", p).
				Advise("please report it, with this: %s", debug.Stack())
		}
	}()
	return work()
}
