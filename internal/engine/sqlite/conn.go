// Package sqlite is the engine for SQLite files. It speaks to the library
// through its C interface as modernc.org/sqlite/lib offers it: database/sql
// would parse dates and allocate for every value, and a dump must have the
// exact bytes.
package sqlite

import (
	"context"
	"errors"
	"fmt"
	"time"
	"unsafe"

	"modernc.org/libc"
	lib "modernc.org/sqlite/lib"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// conn is one connection. It is not safe for concurrent use.
type conn struct {
	tls  *libc.TLS
	db   uintptr
	path string
	waiting
}

// failure is an error of the library, with its extended result code.
type failure struct {
	code int32
	text string
}

func (f *failure) Error() string { return f.text }

// is says whether an error is of a primary result code.
func is(err error, primary int32) bool {
	var f *failure
	return errors.As(err, &f) && f.code&0xff == primary
}

func openConn(path string, flags int32, busy time.Duration) (*conn, error) {
	tls := libc.NewTLS()
	name, err := libc.CString(path)
	if err != nil {
		return nil, err
	}
	defer libc.Xfree(tls, name)
	out := tls.Alloc(8)
	defer tls.Free(8)
	rc := lib.Xsqlite3_open_v2(tls, name, out, flags|lib.SQLITE_OPEN_NOMUTEX, 0)
	c := &conn{tls: tls, db: *(*uintptr)(pointer(out)), path: path}
	if rc != lib.SQLITE_OK {
		err := c.failure(rc)
		c.close()
		return nil, err
	}
	lib.Xsqlite3_extended_result_codes(tls, c.db, 1)
	// No statement of a dump, a view or a check opens another file: not with ATTACH, and
	// not with VACUUM INTO, which attaches.
	lib.Xsqlite3_limit(tls, c.db, lib.SQLITE_LIMIT_ATTACHED, 0)
	c.waitFor(busy)
	return c, nil
}

func (c *conn) failure(rc int32) error {
	text := libc.GoString(lib.Xsqlite3_errstr(c.tls, rc))
	if c.db != 0 {
		if m := libc.GoString(lib.Xsqlite3_errmsg(c.tls, c.db)); m != "" && m != "not an error" {
			text = m
		}
		if x := lib.Xsqlite3_extended_errcode(c.tls, c.db); x&0xff == rc&0xff {
			rc = x
		}
	}
	err := &failure{code: rc, text: fmt.Sprintf("%s (code %d)", text, rc)}
	switch rc & 0xff {
	case lib.SQLITE_FULL, lib.SQLITE_IOERR, lib.SQLITE_NOMEM, lib.SQLITE_CANTOPEN:
		return fault.New(engine.Trouble, err, "the file cannot be used")
	}
	return err
}

func (c *conn) close() error {
	if c.tls == nil {
		return nil
	}
	if c.db != 0 {
		conns.Delete(c.db) // before another connection can have its address
		lib.Xsqlite3_close_v2(c.tls, c.db)
	}
	c.tls.Close()
	c.tls, c.db = nil, 0
	return nil
}

// watch interrupts running statements, and waits for locks, when the context ends. The returned
// function ends the watch and turns an interruption into the context's cause.
func (c *conn) watch(ctx context.Context) func(error) error {
	db, before := c.db, c.waiting.ctx
	c.waiting.ctx = ctx
	gone := make(chan struct{})
	stop := context.AfterFunc(ctx, func() {
		defer close(gone)
		tls := libc.NewTLS()
		lib.Xsqlite3_interrupt(tls, db)
		tls.Close()
	})
	return func(err error) error {
		c.waiting.ctx = before
		if !stop() {
			<-gone
		}
		if err != nil && ctx.Err() != nil {
			return context.Cause(ctx)
		}
		return err
	}
}

// exec runs every statement of a text and throws results away.
func (c *conn) exec(ctx context.Context, sql string) error {
	if err := ctx.Err(); err != nil {
		return context.Cause(ctx)
	}
	done := c.watch(ctx)
	return done(c.execText(unsafe.Slice(unsafe.StringData(sql), len(sql))))
}

func (c *conn) execText(sql []byte) error {
	text, err := c.copyIn(sql)
	if err != nil {
		return err
	}
	defer libc.Xfree(c.tls, text)
	out := c.tls.Alloc(16)
	defer c.tls.Free(16)
	for at, end := text, text+uintptr(len(sql)); at < end; {
		rc := lib.Xsqlite3_prepare_v2(c.tls, c.db, at, int32(end-at), out, out+8)
		if rc != lib.SQLITE_OK {
			return c.failure(rc)
		}
		next := *(*uintptr)(pointer(out + 8))
		s := *(*uintptr)(pointer(out))
		if s == 0 {
			if next == at { // the library takes it for the end of the text
				return errors.New("the text holds a zero byte")
			}
			at = next
			continue // a comment or blank text
		}
		at = next
		for rc = lib.SQLITE_ROW; rc == lib.SQLITE_ROW; {
			rc = lib.Xsqlite3_step(c.tls, s)
		}
		if rc != lib.SQLITE_DONE {
			err := c.failure(rc)
			lib.Xsqlite3_finalize(c.tls, s)
			return err
		}
		lib.Xsqlite3_finalize(c.tls, s)
	}
	return nil
}

// copyIn copies text to memory of the library's, ended by a NUL.
func (c *conn) copyIn(b []byte) (uintptr, error) {
	p := libc.Xmalloc(c.tls, uint64(len(b)+1))
	if p == 0 {
		return 0, errors.New("out of memory")
	}
	dst := unsafe.Slice((*byte)(pointer(p)), len(b)+1)
	copy(dst, b)
	dst[len(b)] = 0
	return p, nil
}

// pointer makes a pointer of an address in the library's memory, which the
// garbage collector neither moves nor frees.
func pointer(p uintptr) unsafe.Pointer { return *(*unsafe.Pointer)(unsafe.Pointer(&p)) }

// stmt is a prepared query.
type stmt struct {
	c *conn
	p uintptr
	n int // columns
}

func (c *conn) prepare(sql string) (*stmt, error) {
	text, err := libc.CString(sql)
	if err != nil {
		return nil, err
	}
	defer libc.Xfree(c.tls, text)
	out := c.tls.Alloc(8)
	defer c.tls.Free(8)
	if rc := lib.Xsqlite3_prepare_v2(c.tls, c.db, text, -1, out, 0); rc != lib.SQLITE_OK {
		return nil, c.failure(rc)
	}
	s := &stmt{c: c, p: *(*uintptr)(pointer(out))}
	if s.p == 0 {
		return nil, errors.New("the query is empty")
	}
	s.n = int(lib.Xsqlite3_column_count(c.tls, s.p))
	return s, nil
}

func (s *stmt) close() { lib.Xsqlite3_finalize(s.c.tls, s.p) }

// step goes to the next row; false at the end.
func (s *stmt) step() (bool, error) {
	switch rc := lib.Xsqlite3_step(s.c.tls, s.p); rc {
	case lib.SQLITE_ROW:
		return true, nil
	case lib.SQLITE_DONE:
		return false, nil
	default:
		return false, s.c.failure(rc)
	}
}

func (s *stmt) kind(i int) int32 { return lib.Xsqlite3_column_type(s.c.tls, s.p, int32(i)) }
func (s *stmt) int(i int) int64  { return lib.Xsqlite3_column_int64(s.c.tls, s.p, int32(i)) }
func (s *stmt) real(i int) float64 {
	return lib.Xsqlite3_column_double(s.c.tls, s.p, int32(i))
}

// raw gives the bytes of a blob, or of a text in the database's own encoding.
// They are valid until the next step.
func (s *stmt) raw(i int) []byte {
	p := lib.Xsqlite3_column_blob(s.c.tls, s.p, int32(i))
	n := lib.Xsqlite3_column_bytes(s.c.tls, s.p, int32(i))
	return view(p, n)
}

// utf8 gives a text as UTF-8. The bytes are valid until the next step.
func (s *stmt) utf8(i int) []byte {
	p := lib.Xsqlite3_column_text(s.c.tls, s.p, int32(i))
	n := lib.Xsqlite3_column_bytes(s.c.tls, s.p, int32(i))
	return view(p, n)
}

func (s *stmt) text(i int) string { return string(s.utf8(i)) }

func view(p uintptr, n int32) []byte {
	if p == 0 || n == 0 {
		return nil
	}
	return unsafe.Slice((*byte)(pointer(p)), int(n))
}

// each runs a query and calls f for every row.
func (c *conn) each(ctx context.Context, sql string, f func(*stmt) error) (err error) {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	done := c.watch(ctx)
	defer func() { err = done(err) }()
	s, err := c.prepare(sql)
	if err != nil {
		return err
	}
	defer s.close()
	for {
		more, err := s.step()
		if err != nil || !more {
			return err
		}
		if err := f(s); err != nil {
			return err
		}
	}
}

// value runs a query of one value; empty if there is no row.
func (c *conn) value(ctx context.Context, sql string) (v string, err error) {
	err = c.each(ctx, sql, func(s *stmt) error { v = s.text(0); return nil })
	return v, err
}

// keyword says whether a name is a word of the language.
func keyword(name string) bool {
	tls := libc.NewTLS()
	defer tls.Close()
	p, err := libc.CString(name)
	if err != nil {
		return true
	}
	defer libc.Xfree(tls, p)
	return lib.Xsqlite3_keyword_check(tls, p, int32(len(name))) != 0
}
