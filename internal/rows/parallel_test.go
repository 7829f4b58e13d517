package rows

import (
	"context"
	"errors"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestInParallelDoesEachOnceAndStopsAtAFailure(t *testing.T) {
	list := make([]int, 1000)
	for i := range list {
		list[i] = i
	}
	var sum, workers atomic.Int64
	take := func(fail int) func(context.Context, func() (int, bool)) error {
		return func(ctx context.Context, next func() (int, bool)) error {
			workers.Add(1)
			for n, ok := next(); ok; n, ok = next() {
				if n == fail {
					return errors.New("that one")
				}
				sum.Add(int64(n))
			}
			return nil
		}
	}
	require.NoError(t, InParallel(context.Background(), 7, list, take(-1)))
	require.EqualValues(t, 499500, sum.Load())
	require.EqualValues(t, 7, workers.Load())
	require.EqualError(t, InParallel(context.Background(), 3, list, take(500)), "that one")
	ctx, cancel := context.WithCancelCause(context.Background())
	cancel(errors.New("enough"))
	require.EqualError(t, InParallel(ctx, 3, list, take(-1)), "enough")
	require.NoError(t, InParallel(context.Background(), 3, nil, take(-1)), "nothing to do")
}
