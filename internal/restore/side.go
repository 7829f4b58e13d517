package restore

import (
	"context"
	"slices"
	"sort"
	"sync"

	"grainkeep/internal/engine"
	"grainkeep/internal/manifest"
)

// site is where the objects of a section are made: those that can be side by side,
// the large ones first, the others one at a time while nothing else goes on.
type site struct {
	l       *loader
	size    map[string]int64 // bytes of rows, by table
	mu      sync.Mutex
	changed *sync.Cond
	waiting []manifest.ObjectEntry
	open    map[string]bool // what is not made yet, by ID
	running []manifest.ObjectEntry
	err     error
}

// build makes objects in as many sessions as are useful.
func (l *loader) build(ctx context.Context, list []manifest.ObjectEntry) error {
	b := &site{l: l, size: map[string]int64{}, open: map[string]bool{}}
	b.changed = sync.NewCond(&b.mu)
	for _, t := range l.tables {
		b.size[t.ID] = t.Bytes
	}
	var others []manifest.ObjectEntry
	for _, o := range list {
		b.open[o.ID()] = true
		if o.Beside != "" {
			b.waiting = append(b.waiting, o)
		} else {
			others = append(others, o)
		}
	}
	beside := len(b.waiting)
	// Foreign keys come last among those, the large before the small.
	sort.SliceStable(b.waiting, func(i, j int) bool {
		x, y := b.waiting[i], b.waiting[j]
		if fx, fy := len(x.Locks) > 1, len(y.Locks) > 1; fx != fy {
			return fy
		}
		return b.size[x.Table] > b.size[y.Table]
	})
	b.waiting = append(b.waiting, others...)
	stop := context.AfterFunc(ctx, b.changed.Broadcast)
	defer stop()
	var group sync.WaitGroup
	_, width := l.t.Width()
	for range max(1, min(width, beside)) {
		group.Go(func() { b.work(ctx) })
	}
	group.Wait()
	if b.err == nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return b.err
}

func (b *site) work(ctx context.Context) {
	s, err := b.l.t.Session(ctx)
	if err == nil {
		defer s.Close()
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	defer b.changed.Broadcast()
	if err != nil {
		b.err = err
		return
	}
	for {
		for b.err == nil && ctx.Err() == nil && len(b.waiting) > 0 && b.next() < 0 {
			b.changed.Wait()
		}
		if b.err != nil || ctx.Err() != nil || len(b.waiting) == 0 {
			return
		}
		i := b.next()
		o := b.waiting[i]
		b.waiting = slices.Delete(b.waiting, i, i+1)
		b.running = append(b.running, o)
		b.mu.Unlock()
		err := b.l.make(ctx, s, o)
		b.mu.Lock()
		b.running = slices.DeleteFunc(b.running, func(r manifest.ObjectEntry) bool { return r.ID() == o.ID() })
		delete(b.open, o.ID())
		if err != nil && b.err == nil {
			b.err = err
		}
		b.changed.Broadcast()
	}
}

// next gives the place of an object that can be made now, or -1.
func (b *site) next() int {
	return slices.IndexFunc(b.waiting, func(o manifest.ObjectEntry) bool {
		for _, id := range o.Needs {
			if b.open[id] {
				return false
			}
		}
		if o.Beside == "" {
			return len(b.running) == 0
		}
		return !slices.ContainsFunc(b.running, func(r manifest.ObjectEntry) bool { return inTheWay(r, o) })
	})
}

// inTheWay says whether two objects cannot be made at the same time.
func inTheWay(a, b manifest.ObjectEntry) bool {
	if a.Beside == "" || b.Beside == "" {
		return true
	}
	return (a.Beside == engine.Alone || b.Beside == engine.Alone) &&
		slices.ContainsFunc(a.Locks, func(t string) bool { return slices.Contains(b.Locks, t) })
}
