package rows

import (
	"context"
	"sync"
)

// InParallel runs workers over a list until it is empty or one of them fails.
func InParallel[T any](ctx context.Context, workers int, list []T, work func(ctx context.Context, next func() (T, bool)) error) error {
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
			if errs[i] = work(ctx, next); errs[i] != nil {
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
