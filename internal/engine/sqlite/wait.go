package sqlite

import (
	"context"
	"sync"
	"time"
	"unsafe"

	"modernc.org/libc"
	lib "modernc.org/sqlite/lib"
)

// waiting is how a connection waits for locks of others. The library's own wait does not hear that it should end.
type waiting struct {
	most  time.Duration
	ctx   context.Context // of what is done now
	since time.Time
}

// The library calls back with the address of its connection, since it cannot hold a pointer of ours.
var conns sync.Map // of *conn, by that address

// waitFor makes a connection wait for a lock at most so long.
func (c *conn) waitFor(most time.Duration) {
	c.waiting = waiting{most: most, ctx: context.Background()}
	conns.Store(c.db, c)
	lib.Xsqlite3_busy_handler(c.tls, c.db, function(await), c.db)
}

// await is called by the library, on the goroutine that wants the lock, each time that it is not to be had; 0 gives it up.
func await(_ *libc.TLS, db uintptr, before int32) int32 {
	x, ok := conns.Load(db)
	if !ok {
		return 0
	}
	w := &x.(*conn).waiting
	if before == 0 {
		w.since = time.Now()
	}
	if time.Since(w.since) >= w.most {
		return 0
	}
	select {
	case <-w.ctx.Done():
		return 0
	case <-time.After(time.Duration(min(before+1, 50)) * time.Millisecond):
		return 1
	}
}

// function is a function of ours as the library calls it. It stands in the program and does not move.
func function[F any](f F) uintptr { return *(*uintptr)(unsafe.Pointer(&struct{ f F }{f})) }
