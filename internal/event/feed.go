// Package event is what work tells of itself while it goes on: typed events, and how
// far it is. The screen, the log, --json, and whatever else wants to know, listen to
// the one feed.
package event

import (
	"fmt"
	"sync"
)

// Event is something that happened. Packages of the core have events of their own.
type Event interface {
	// Word is the event's stable name, for logs.
	Word() string
	// Text says it in a sentence or less.
	Text() string
}

// Warning makes a command end with exit code 3.
type Warning struct {
	Code string // stable, for scripts
	Of   string // the database or thing that it is about; may be empty
	What string
}

// Word implements Event.
func (Warning) Word() string { return "warning" }

// Text implements Event.
func (w Warning) Text() string { return about(w.Of, w.What) }

// Note is worth telling, and no more.
type Note struct {
	Of   string
	What string
}

// Word implements Event.
func (Note) Word() string { return "note" }

// Text implements Event.
func (n Note) Text() string { return about(n.Of, n.What) }

func about(of, what string) string {
	if of == "" {
		return what
	}
	return of + ": " + what
}

// Feed carries the events and the progress of one piece of work. All its methods may be
// called side by side, also on a nil Feed; listeners are called one at a time.
type Feed struct {
	Meter *Meter // nil: the feed has one of its own, which Gauge gives

	own       Meter
	mu        sync.Mutex
	listeners []func(Event)
	accepted  map[string]bool // codes of warnings
}

// Listen adds a listener; it must not tell anything to the feed itself.
func (f *Feed) Listen(l func(Event)) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.listeners = append(f.listeners, l)
}

// Tell tells an event to all who listen.
func (f *Feed) Tell(e Event) {
	if f == nil {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if w, ok := e.(Warning); ok && f.accepted[w.Code] {
		e = Accepted{w}
	}
	for _, l := range f.listeners {
		l(e)
	}
}

// Warn tells a warning about a database or thing.
func (f *Feed) Warn(code, of, format string, args ...any) {
	f.Tell(Warning{Code: code, Of: of, What: fmt.Sprintf(format, args...)})
}

// Note tells a note about a database or thing.
func (f *Feed) Note(of, format string, args ...any) {
	f.Tell(Note{Of: of, What: fmt.Sprintf(format, args...)})
}

// Gauge is the meter of the feed's work.
func (f *Feed) Gauge() *Meter {
	if f.Meter != nil {
		return f.Meter
	}
	return &f.own
}
