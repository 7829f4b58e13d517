// Package clock tells the time. It is this machine's, but for the demo, which goes through a night in seconds: it
// moves the clock ahead of the machine's.
package clock

import (
	"sync/atomic"
	"time"
)

var ahead atomic.Int64 // nanoseconds

// Now is the time.
func Now() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }

// Since is how long ago something was.
func Since(t time.Time) time.Duration { return Now().Sub(t) }

// MoveTo moves the clock to a time, from where it goes on.
func MoveTo(t time.Time) { ahead.Store(int64(time.Until(t))) }

// Right sets the clock to the machine's again.
func Right() { ahead.Store(0) }

// Until is how far ahead something is.
func Until(t time.Time) time.Duration { return t.Sub(Now()) }
