package sqlite

import (
	"context"
	"errors"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"unsafe"

	"modernc.org/libc"
	lib "modernc.org/sqlite/lib"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/system"
)

// temp is a database for the time of some questions.
type temp struct {
	c       *conn
	room    int64
	nothing uintptr // a place in the library's memory that an empty text points at
}

const tempPage = 4096 // bytes

// Temp implements engine.TempMaker.
func (driver) Temp(path string, room int64) (engine.TempDB, error) {
	c, err := openConn(path, lib.SQLITE_OPEN_READWRITE|lib.SQLITE_OPEN_CREATE|lib.SQLITE_OPEN_EXCLUSIVE, 0)
	if err != nil {
		return nil, err
	}
	t := &temp{c: c, room: room, nothing: libc.Xmalloc(c.tls, 1)}
	for _, pragma := range []string{"page_size=4096", "journal_mode=OFF", "synchronous=OFF", "locking_mode=EXCLUSIVE", "cache_size=-8192",
		"temp_store=FILE", "recursive_triggers=OFF"} {
		if err == nil {
			err = c.exec(context.Background(), "PRAGMA "+pragma)
		}
	}
	if err == nil {
		_, err = c.value(context.Background(), "PRAGMA max_page_count="+strconv.FormatInt(max(2, room/tempPage), 10))
	}
	if err != nil {
		return nil, errors.Join(err, c.close())
	}
	return t, nil
}

// Close implements engine.TempDB.
func (t *temp) Close() error {
	libc.Xfree(t.c.tls, t.nothing)
	return t.c.close()
}

// trouble tells a full room from other errors.
func (t *temp) trouble(err error) error {
	var f *failure
	if errors.As(err, &f) && f.code&0xff == lib.SQLITE_FULL {
		if free, _, e := system.Room(t.c.path); e == nil && free < 16*tempPage { // the library says the same of both
			return fault.New(engine.Trouble, err, "the drive of the temporary database is full").
				Advise("set TMPDIR to a folder with more room")
		}
		return fault.New(engine.RoomUsed, nil, "the tables of the question need more than %d MiB of room", t.room>>20)
	}
	return err
}

// Exec implements engine.TempDB.
func (t *temp) Exec(ctx context.Context, sql string, with ...engine.Cell) (rows int64, err error) {
	if len(with) == 0 {
		err = t.c.exec(ctx, sql)
	} else {
		err = t.once(sql, with)
	}
	return lib.Xsqlite3_changes64(t.c.tls, t.c.db), t.trouble(err)
}

func (t *temp) once(sql string, with []engine.Cell) error {
	s, err := t.c.prepare(sql)
	if err != nil {
		return err
	}
	w := &tempRows{t: t, one: s, columns: len(with)}
	return errors.Join(w.Insert(with), w.Close())
}

// insertedAtOnce is how many rows one statement inserts: to run a statement costs more than to insert a row.
const insertedAtOnce = 16

// maxVariables is how many values one statement takes at most, of those that the library is built for.
const maxVariables = 32766

// Into implements engine.TempDB.
func (t *temp) Into(table string, columns []string) (engine.TempRows, error) {
	head := "INSERT INTO " + quote(table)
	one := "(" + strings.TrimSuffix(strings.Repeat("?,", len(columns)), ",") + ")"
	if len(columns) == 0 { // they are counted
		s, err := t.c.prepare(head + " DEFAULT VALUES")
		return &tempRows{t: t, one: s}, err
	}
	head += "(" + columnList(columns) + ") VALUES"
	s, err := t.c.prepare(head + one)
	if err != nil {
		return nil, err
	}
	w := &tempRows{t: t, one: s, columns: len(columns)}
	if len(columns)*insertedAtOnce < maxVariables {
		w.many, err = t.c.prepare(head + one + strings.Repeat(","+one, insertedAtOnce-1))
	}
	return w, err
}

// tempRows is a statement that is run for each row, and one for many. Rows are gathered first.
type tempRows struct {
	t         *temp
	one, many *stmt // many is nil where there are too many columns
	columns   int
	cells     []engine.Cell // of the rows that are gathered; the bytes of texts lie in a room of their own
	bytes     []byte
	room      uintptr // the library's, for those bytes
	size      int
}

// gathered bounds the bytes of rows that wait for each other.
const gathered = 1 << 20

// Insert implements engine.TempRows.
func (w *tempRows) Insert(row []engine.Cell) error {
	for _, c := range row {
		at := len(w.bytes)
		w.bytes = append(w.bytes, c.Data...)
		c.Data = nil
		if c.Kind == engine.TextCell || c.Kind == engine.BytesCell {
			c.Int = int64(len(w.bytes) - at) // its length
		}
		w.cells = append(w.cells, c)
	}
	switch {
	case w.many == nil || len(w.bytes) > gathered:
		return w.flush()
	case len(w.cells) == w.columns*insertedAtOnce:
		return w.run(w.many, true)
	}
	return nil
}

// flush inserts the rows that are gathered, one by one.
func (w *tempRows) flush() error {
	if w.columns == 0 {
		return w.run(w.one, true)
	}
	all, bytes := w.cells, w.bytes
	for len(all) > 0 {
		w.cells, all = all[:w.columns], all[w.columns:]
		w.bytes = bytes
		for _, c := range w.cells {
			if c.Kind == engine.TextCell || c.Kind == engine.BytesCell {
				bytes = bytes[c.Int:]
			}
		}
		w.bytes = w.bytes[:len(w.bytes)-len(bytes)]
		if err := w.run(w.one, false); err != nil {
			return err
		}
	}
	w.cells, w.bytes = w.cells[:0], w.bytes[:0]
	return nil
}

// run runs a statement with the cells that are gathered. Their bytes are copied into the library's memory once, and stay
// there while it runs.
func (w *tempRows) run(s *stmt, clear bool) error {
	tls := w.t.c.tls
	if len(w.bytes) > w.size {
		libc.Xfree(tls, w.room)
		w.size = max(2*len(w.bytes), 64<<10)
		if w.room = libc.Xmalloc(tls, uint64(w.size)); w.room == 0 {
			w.size = 0
			return errors.New("out of memory")
		}
	}
	if len(w.bytes) > 0 {
		copy(unsafe.Slice((*byte)(pointer(w.room)), w.size), w.bytes)
	}
	at := w.room
	for i, c := range w.cells {
		if rc := w.bind(s, int32(i+1), c, at); rc != lib.SQLITE_OK {
			return w.t.c.failure(rc)
		}
		if c.Kind == engine.TextCell || c.Kind == engine.BytesCell {
			at += uintptr(c.Int)
		}
	}
	rc := lib.Xsqlite3_step(tls, s.p)
	var err error
	if rc != lib.SQLITE_DONE {
		err = w.t.trouble(w.t.c.failure(rc))
	}
	lib.Xsqlite3_reset(tls, s.p)
	if clear {
		w.cells, w.bytes = w.cells[:0], w.bytes[:0]
	}
	return err
}

func (w *tempRows) bind(s *stmt, n int32, c engine.Cell, at uintptr) int32 {
	tls, p := w.t.c.tls, s.p
	switch {
	case c.Kind == engine.NullCell:
		return lib.Xsqlite3_bind_null(tls, p, n)
	case c.Kind == engine.IntCell:
		return lib.Xsqlite3_bind_int64(tls, p, n, c.Int)
	case c.Kind == engine.RealCell:
		return lib.Xsqlite3_bind_double(tls, p, n, c.Real)
	case c.Kind == engine.TextCell && c.Int == 0: // without room there is no place to point at
		return lib.Xsqlite3_bind_text(tls, p, n, w.t.nothing, 0, lib.SQLITE_STATIC)
	case c.Kind == engine.TextCell:
		return lib.Xsqlite3_bind_text(tls, p, n, at, int32(c.Int), lib.SQLITE_STATIC)
	case c.Int == 0:
		return lib.Xsqlite3_bind_zeroblob(tls, p, n, 0)
	}
	return lib.Xsqlite3_bind_blob(tls, p, n, at, int32(c.Int), lib.SQLITE_STATIC)
}

// Close implements engine.TempRows.
func (w *tempRows) Close() error {
	var err error
	if len(w.cells) > 0 {
		err = w.flush()
	}
	w.one.close()
	if w.many != nil {
		w.many.close()
	}
	libc.Xfree(w.t.c.tls, w.room)
	w.room, w.size = 0, 0
	return err
}

// asking is what the library asks about while it prepares a statement.
type asking struct {
	allowed []int32 // actions
	mu      sync.Mutex
	tables  map[string][]string // that are read, with their columns
	other   bool                // it would do something else
}

// The library calls back with a number, since it cannot hold a pointer of ours.
var (
	askings sync.Map // of *asking, by number
	nextAsk atomic.Uint64
)

// What a query does that only reads, and what a definition does. A definition is noted in a table of the library's own.
var (
	justReads = []int32{lib.SQLITE_SELECT, lib.SQLITE_READ, lib.SQLITE_FUNCTION, lib.SQLITE_RECURSIVE}
	defines   = []int32{lib.SQLITE_CREATE_TABLE, lib.SQLITE_CREATE_VIEW, lib.SQLITE_CREATE_INDEX, lib.SQLITE_INSERT, lib.SQLITE_UPDATE,
		lib.SQLITE_READ, lib.SQLITE_FUNCTION}
)

// authorize is called by the library for each action of a statement.
func authorize(tls *libc.TLS, arg uintptr, action int32, first, second, _, _ uintptr) int32 {
	x, ok := askings.Load(uint64(arg))
	if !ok {
		return lib.SQLITE_DENY
	}
	r := x.(*asking)
	r.mu.Lock()
	defer r.mu.Unlock()
	if !slices.Contains(r.allowed, action) {
		r.other = true
		return lib.SQLITE_DENY
	}
	if action == lib.SQLITE_READ {
		table, column := libc.GoString(first), libc.GoString(second)
		if _, seen := r.tables[table]; !seen {
			r.tables[table] = nil
		}
		if column != "" && !slices.Contains(r.tables[table], column) {
			r.tables[table] = append(r.tables[table], column)
		}
	}
	return lib.SQLITE_OK
}

// prepareOnly prepares the first statement of a text, if it does no more than is allowed.
func (c *conn) prepareOnly(sql string, allowed []int32) (*stmt, *asking, error) {
	r := &asking{allowed: allowed, tables: map[string][]string{}}
	number := nextAsk.Add(1)
	askings.Store(number, r)
	defer askings.Delete(number)
	lib.Xsqlite3_set_authorizer(c.tls, c.db, function(authorize), uintptr(number))
	defer lib.Xsqlite3_set_authorizer(c.tls, c.db, 0, 0)
	s, err := c.prepare(sql)
	return s, r, err
}

// define runs a definition that somebody else wrote: the first statement of a text, if it defines a table or a view and does
// nothing else.
func (c *conn) define(sql string) error {
	s, _, err := c.prepareOnly(sql, defines)
	if err != nil {
		return err
	}
	defer s.close()
	for more := true; more && err == nil; {
		more, err = s.step()
	}
	return err
}

// Define implements engine.TempDB.
func (t *temp) Define(sql string) error { return t.trouble(t.c.define(sql)) }

// Reads implements engine.TempDB.
func (t *temp) Reads(sql string) (map[string][]string, error) {
	s, r, err := t.c.prepareOnly(sql, justReads)
	switch {
	case r.other:
		return nil, fault.Wrong(engine.QueryWrong, "the question is refused: it does more than read").Advise("ask with SELECT")
	case err != nil:
		return nil, fault.Wrong(engine.QueryWrong, "the question cannot be read: %v", err)
	}
	s.close()
	return r.tables, nil
}

// Query implements engine.TempDB.
func (t *temp) Query(ctx context.Context, sql string, names func([]string) error, each func([]engine.Cell) error) (err error) {
	s, err := t.c.prepare(sql)
	if err != nil {
		return fault.Wrong(engine.QueryWrong, "the question cannot be read: %v", err)
	}
	defer s.close()
	done := t.c.watch(ctx)
	defer func() { err = done(err) }()
	list := make([]string, s.n)
	for i := range list {
		list[i] = libc.GoString(lib.Xsqlite3_column_name(t.c.tls, s.p, int32(i)))
	}
	if err := names(list); err != nil {
		return err
	}
	row := make([]engine.Cell, s.n)
	for {
		more, err := s.step()
		if err != nil {
			return fault.Wrong(engine.QueryWrong, "the question has no answer: %v", t.trouble(err))
		}
		if !more {
			return nil
		}
		for i := range row {
			row[i] = s.cell(i)
		}
		if err := each(row); err != nil {
			return err
		}
	}
}

// cell gives a value of the row.
func (s *stmt) cell(i int) engine.Cell {
	switch s.kind(i) {
	case lib.SQLITE_INTEGER:
		return engine.Cell{Kind: engine.IntCell, Int: s.int(i)}
	case lib.SQLITE_FLOAT:
		return engine.Cell{Kind: engine.RealCell, Real: s.real(i)}
	case lib.SQLITE_TEXT:
		return engine.Cell{Kind: engine.TextCell, Data: s.utf8(i)}
	case lib.SQLITE_BLOB:
		return engine.Cell{Kind: engine.BytesCell, Data: s.raw(i)}
	}
	return engine.Cell{}
}
