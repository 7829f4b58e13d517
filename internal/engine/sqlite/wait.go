package sqlite

import (
	"context"
	"sync"
	"time"
	"unsafe"

	"modernc.org/libc"
	lib "modernc.org/sqlite/lib"
)

// patience is how a connection waits for locks of others. The library's own wait does not hear that it should end.
type patience struct {
	most  time.Duration
	ctx   context.Context // of what is done now
	since time.Time
}

// The library calls back with the address of its connection, since it cannot hold a pointer of ours.
var patient sync.Map // of *patience, by that address

// waitFor makes a connection wait for a lock at most so long.
func (c *conn) waitFor(most time.Duration) {
	c.patience = &patience{most: most, ctx: context.Background()}
	patient.Store(c.db, c.patience)
	call := await
	lib.Xsqlite3_busy_handler(c.tls, c.db, *(*uintptr)(unsafe.Pointer(&struct {
		f func(*libc.TLS, uintptr, int32) int32
	}{call})), c.db)
}

// await is called by the library, on the goroutine that wants the lock, each time that it is not to be had; 0 gives it up.
func await(_ *libc.TLS, db uintptr, before int32) int32 {
	x, ok := patient.Load(db)
	if !ok {
		return 0
	}
	p := x.(*patience)
	if before == 0 {
		p.since = time.Now()
	}
	if time.Since(p.since) >= p.most {
		return 0
	}
	select {
	case <-p.ctx.Done():
		return 0
	case <-time.After(time.Duration(min(before+1, 50)) * time.Millisecond):
		return 1
	}
}
