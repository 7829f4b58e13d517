package sqlite

import (
	"context"
	"os"
	"path/filepath"
	"time"

	"modernc.org/libc"
	lib "modernc.org/sqlite/lib"

	"grainkeep/internal/clock"
)

// copied copies the pages of a file in one read lock, much shorter than reading its
// rows takes, and opens the copy in its place.
func (s *source) copied(ctx context.Context, c *conn) (_ *conn, path string, moment time.Time, err error) {
	defer c.close()
	f, err := os.CreateTemp(s.scratch, "copy-*")
	if err != nil {
		return nil, "", moment, err
	}
	f.Close()
	path = f.Name()
	to, err := openConn(path, lib.SQLITE_OPEN_READWRITE|lib.SQLITE_OPEN_CREATE, time.Second)
	if err != nil {
		removeCopy(path)
		return nil, "", moment, err
	}
	moment = clock.Now()
	if err = to.exec(ctx, "PRAGMA synchronous=OFF"); err == nil {
		err = to.copyFrom(ctx, c, s.at.LockWait)
	}
	if err != nil {
		to.close()
		removeCopy(path)
		return nil, "", moment, err
	}
	return to, path, moment, nil
}

// pagesAtOnce are copied between two looks at the context.
const pagesAtOnce = 1 << 14

// copyFrom copies all pages. The source stays locked from the first to the last; where
// somebody writes before the first, it waits.
func (c *conn) copyFrom(ctx context.Context, from *conn, wait time.Duration) error {
	name, err := libc.CString("main")
	if err != nil {
		return err
	}
	defer libc.Xfree(c.tls, name)
	if err := from.exec(ctx, "BEGIN; SELECT count(*) FROM sqlite_schema"); err != nil { // it waits for writers
		return err
	}
	b := lib.Xsqlite3_backup_init(c.tls, c.db, name, from.db, name)
	if b == 0 {
		return c.failure(lib.Xsqlite3_errcode(c.tls, c.db))
	}
	end := clock.Now().Add(wait)
	var rc int32
	for ctx.Err() == nil {
		rc = lib.Xsqlite3_backup_step(c.tls, b, pagesAtOnce)
		busy := rc&0xff == lib.SQLITE_BUSY || rc&0xff == lib.SQLITE_LOCKED
		if rc != lib.SQLITE_OK && (!busy || clock.Now().After(end)) {
			break
		}
		if busy {
			time.Sleep(10 * time.Millisecond)
		}
	}
	finished := lib.Xsqlite3_backup_finish(c.tls, b)
	switch {
	case ctx.Err() != nil:
		return context.Cause(ctx)
	case rc != lib.SQLITE_DONE:
		return c.failure(rc)
	case finished != lib.SQLITE_OK:
		return c.failure(finished)
	}
	return nil
}

// removeCopy removes a copy, and what a log may have left beside it.
func removeCopy(path string) {
	found, _ := filepath.Glob(path + "*")
	for _, f := range found {
		os.Remove(f)
	}
}
