package restore

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"sync"

	"grainkeep/internal/engine"
	"grainkeep/internal/manifest"
	"grainkeep/internal/payload"
)

// scheduler is where the objects of a section are made: those that can be side by side,
// the large ones first, the others one at a time while nothing else goes on.
type scheduler struct {
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
	s := &scheduler{l: l, size: map[string]int64{}, open: map[string]bool{}}
	s.changed = sync.NewCond(&s.mu)
	for _, t := range l.tables {
		s.size[t.ID] = t.Bytes
	}
	var others []manifest.ObjectEntry
	for _, o := range list {
		s.open[o.ID()] = true
		if o.Beside != "" {
			s.waiting = append(s.waiting, o)
		} else {
			others = append(others, o)
		}
	}
	beside := len(s.waiting)
	// Foreign keys come last among those, the large before the small.
	sort.SliceStable(s.waiting, func(i, j int) bool {
		x, y := s.waiting[i], s.waiting[j]
		if fx, fy := len(x.Locks) > 1, len(y.Locks) > 1; fx != fy {
			return fy
		}
		return s.size[x.Table] > s.size[y.Table]
	})
	s.waiting = append(s.waiting, others...)
	stop := context.AfterFunc(ctx, s.changed.Broadcast)
	defer stop()
	var group sync.WaitGroup
	_, width := l.t.Width()
	for range max(1, min(width, beside)) {
		group.Go(func() { s.work(ctx) })
	}
	group.Wait()
	if s.err == nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return s.err
}

func (s *scheduler) work(ctx context.Context) {
	session, err := s.l.t.Session(ctx)
	if err == nil {
		defer session.Close()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	defer s.changed.Broadcast()
	if err != nil {
		s.err = err
		return
	}
	for {
		for s.err == nil && ctx.Err() == nil && len(s.waiting) > 0 && s.next() < 0 {
			if len(s.running) == 0 { // no dump that we wrote has that
				s.err = payload.Damage(s.l.d,
					"its objects need each other in a circle, the "+s.waiting[0].ID()+" among them")
				s.changed.Broadcast()
				return
			}
			s.changed.Wait()
		}
		if s.err != nil || ctx.Err() != nil || len(s.waiting) == 0 {
			return
		}
		i := s.next()
		o := s.waiting[i]
		s.waiting = slices.Delete(s.waiting, i, i+1)
		s.running = append(s.running, o)
		s.mu.Unlock()
		err := s.make(ctx, session, o)
		s.mu.Lock()
		s.running = slices.DeleteFunc(s.running, func(r manifest.ObjectEntry) bool { return r.ID() == o.ID() })
		delete(s.open, o.ID())
		if err != nil && s.err == nil {
			s.err = err
		}
		s.changed.Broadcast()
	}
}

// make makes one object; the lock is free meanwhile.
func (s *scheduler) make(ctx context.Context, session engine.Session, o manifest.ObjectEntry) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("the %s: %v", o.ID(), p)
		}
	}()
	return s.l.make(ctx, session, o)
}

// next gives the place of an object that can be made now, or -1.
func (s *scheduler) next() int {
	return slices.IndexFunc(s.waiting, func(o manifest.ObjectEntry) bool {
		for _, id := range o.Needs {
			if s.open[id] {
				return false
			}
		}
		if o.Beside == "" {
			return len(s.running) == 0
		}
		return !slices.ContainsFunc(s.running, func(r manifest.ObjectEntry) bool { return inTheWay(r, o) })
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
