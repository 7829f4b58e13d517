package schedule

import (
	"context"
	"fmt"
	"math/rand/v2"
	"sync"
	"time"

	"grainkeep/internal/event"
)

// Clock is what tells the time to a Server; tests have one of their own.
type Clock interface {
	Now() time.Time
	After(d time.Duration) <-chan time.Time
}

// RealClock is this machine's.
type RealClock struct{}

// Now implements Clock.
func (RealClock) Now() time.Time { return time.Now() }

// After implements Clock.
func (RealClock) After(d time.Duration) <-chan time.Time { return time.After(d) }

// Started is told when something begins.
type Started struct{ Due }

// Word implements event.Event.
func (Started) Word() string { return "started" }

// Text implements event.Event.
func (s Started) Text() string { return fmt.Sprintf("%s of %s begins: %s", s.What, s.Job, s.Why) }

// Ended is told when something has ended.
type Ended struct {
	Due
	Took time.Duration
	Err  error // why it failed; nil: it is done
}

// Word implements event.Event.
func (Ended) Word() string { return "ended" }

// Text implements event.Event.
func (e Ended) Text() string {
	if e.Err != nil {
		return fmt.Sprintf("%s of %s failed: %v", e.What, e.Job, e.Err)
	}
	return fmt.Sprintf("%s of %s is done", e.What, e.Job)
}

// Serving is how a Server works.
type Serving struct {
	Start  func(ctx context.Context, d Due) error // does it, to its end
	Clock  Clock
	Feed   *event.Feed
	AtOnce int    // things that are done at the same time; 0: one
	Each   func() // called at every look at the clock; may be nil
	// Longest is the longest time between two looks at the clock, which may be set while the machine sleeps; 0: a
	// minute.
	Longest time.Duration
}

// Server does what is due, each job one thing at a time, until it is stopped. Its methods may be called side by
// side.
type Server struct {
	Serving

	mu      sync.Mutex
	agenda  *Agenda
	waiting map[string][]Due // by job, the one under way first
	work    sync.WaitGroup
	turn    chan struct{} // of those that may be done at the same time
	woken   chan struct{}
}

// NewServer begins with an agenda.
func NewServer(a *Agenda, s Serving) *Server {
	if s.Longest == 0 {
		s.Longest = time.Minute
	}
	return &Server{Serving: s, agenda: a, waiting: map[string][]Due{}, turn: make(chan struct{}, max(1, s.AtOnce)),
		woken: make(chan struct{}, 1)}
}

// Run does what is due until the context ends, and then waits for what is under way: Start hears of the end too.
func (s *Server) Run(ctx context.Context) {
	defer s.work.Wait()
	for ctx.Err() == nil {
		now := s.Clock.Now()
		s.mu.Lock()
		due, missed := s.agenda.Due(now)
		wake := s.agenda.Wake(now, s.Longest)
		s.mu.Unlock()
		for _, m := range missed {
			s.Feed.Warn("run-missed", "", "%v", m)
		}
		for _, d := range due {
			s.add(ctx, d)
		}
		if s.Each != nil {
			s.Each()
		}
		select {
		case <-ctx.Done():
		case <-s.woken:
		case <-s.Clock.After(wake.Sub(now)):
		}
	}
}

// Change gives other plans; what is under way goes on.
func (s *Server) Change(plans []Plan, zone *time.Location) {
	s.mu.Lock()
	s.agenda.Change(plans, zone, s.Clock.Now())
	s.mu.Unlock()
	select {
	case s.woken <- struct{}{}:
	default:
	}
}

// Call does something now that somebody asks for. It says no where that is being done already.
func (s *Server) Call(ctx context.Context, job string, what What) bool {
	return s.add(ctx, Due{At: s.Clock.Now(), Job: job, What: what, Why: "it was called for", Called: true})
}

// UnderWay gives what is being done, and what waits for its turn.
func (s *Server) UnderWay() (list []Due) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, w := range s.waiting {
		list = append(list, w...)
	}
	return list
}

// add puts something into its job's queue, which one goroutine works off.
func (s *Server) add(ctx context.Context, d Due) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	queue := s.waiting[d.Job]
	for _, w := range queue {
		if w.What == d.What {
			s.Feed.Warn("run-overrun", "", "the %s of %s that was due at %s is left out: the one of %s is not done yet",
				d.What, d.Job,
				d.At.Format("15:04:05"), w.At.Format("15:04:05"))
			return false
		}
	}
	s.waiting[d.Job] = append(queue, d)
	if len(queue) == 0 {
		s.work.Go(func() { s.workOff(ctx, d.Job) })
	}
	return true
}

func (s *Server) workOff(ctx context.Context, job string) {
	for {
		s.mu.Lock()
		d := s.waiting[job][0]
		delay := s.spread(d)
		s.mu.Unlock()
		s.do(ctx, d, delay)
		if s.done(ctx, job) {
			return
		}
	}
}

// done takes what was done out of its job's queue, and says whether nothing is left to do. Whoever adds something
// after that begins anew.
func (s *Server) done(ctx context.Context, job string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.waiting[job] = s.waiting[job][1:]
	if len(s.waiting[job]) > 0 && ctx.Err() == nil {
		return false
	}
	delete(s.waiting, job)
	return true
}

// spread is by how much a start is delayed, so that not all begin in the same second.
func (s *Server) spread(d Due) time.Duration {
	for _, p := range s.agenda.plans {
		if p.Job == d.Job && p.What == d.What && p.Spread > 0 {
			return rand.N(p.Spread)
		}
	}
	return 0
}

func (s *Server) do(ctx context.Context, d Due, delay time.Duration) {
	if delay > 0 {
		select {
		case <-ctx.Done():
			return
		case <-s.Clock.After(delay):
		}
	}
	select {
	case <-ctx.Done():
		return
	case s.turn <- struct{}{}:
	}
	defer func() { <-s.turn }()
	s.Feed.Tell(Started{d})
	began := s.Clock.Now()
	err := s.Start(ctx, d)
	s.Feed.Tell(Ended{d, s.Clock.Now().Sub(began), err})
}
