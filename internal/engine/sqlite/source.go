package sqlite

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"
	"unicode/utf8"

	lib "modernc.org/sqlite/lib"

	"grainkeep/internal/clock"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

func init() { engine.Register("sqlite", driver{}) }

// Endings are the file endings by which databases are found in a folder.
var Endings = []string{".db", ".db3", ".sqlite", ".sqlite3"}

// defaultWait is the longest wait for a lock held by another process.
const defaultWait = 30 * time.Second

type driver struct{}

// Grants explains that files have no users.
func (driver) Grants(engine.Location, engine.Purpose, []string) (string, error) {
	return "", fault.Wrong("no-grants", "SQLite has no users: what counts is who may read the file").
		Advise("let the user that runs grainkeep read the file and its folder")
}

// Open opens a file, or a folder of files, as a source.
func (driver) Open(_ context.Context, at engine.Location) (engine.Source, error) {
	if at.LockWait == 0 {
		at.LockWait = defaultWait
	}
	path, err := filepath.Abs(at.Path)
	if err != nil {
		return nil, err
	}
	s := &source{at: at, folder: path}
	st, err := os.Stat(path)
	switch {
	case err == nil && st.IsDir():
		return s, nil
	case err == nil || errors.Is(err, os.ErrNotExist) && hasEnding(path):
		s.folder, s.only = filepath.Dir(path), filepath.Base(path)
		if _, err := os.Stat(s.folder); err == nil {
			return s, nil
		}
	}
	return nil, fault.New("source-absent", nil, "there is no SQLite file or folder %s", path).
		Advise("check the path; if a drive belongs there, it may not be mounted")
}

func hasEnding(path string) bool {
	return slices.Contains(Endings, strings.ToLower(filepath.Ext(path)))
}

type source struct {
	at     engine.Location
	folder string
	only   string // the one file, if the source is not the whole folder

	scratch string // where copies may be put; empty: nowhere
}

func (s *source) Close() error { return nil }

func (s *source) Describe(context.Context) (engine.Server, error) {
	return engine.Server{Product: "SQLite", Version: lib.SQLITE_VERSION, Clock: clock.Now(),
		Zone: time.Local.String(), Ordered: true, InOrder: true,
		Folder: filepath.Join(s.folder, s.only)}, nil
}

const magic = "SQLite format 3\x00"

func (s *source) Databases(ctx context.Context) ([]engine.Database, error) {
	names := []string{s.only}
	if s.only == "" {
		names = nil
		entries, err := os.ReadDir(s.folder)
		if err != nil {
			return nil, fault.New("source-unreadable", err, "cannot look into %s", s.folder)
		}
		for _, e := range entries {
			if hasEnding(e.Name()) && !e.IsDir() && e.Name()[0] != '.' {
				names = append(names, e.Name())
			}
		}
	}
	sort.Strings(names)
	var list []engine.Database
	for _, n := range names {
		st, err := os.Stat(filepath.Join(s.folder, n))
		if err != nil {
			continue
		}
		d := engine.Database{Name: n, Bytes: st.Size(), Odd: s.odd(n)}
		if d.Odd == "" {
			d.Note = s.note(ctx, n)
		}
		list = append(list, d)
	}
	return list, nil
}

// odd says why a file that ends like a database is not taken for one. An empty file is a
// database without tables.
func (s *source) odd(name string) string {
	if !utf8.ValidString(name) {
		return "the name of the file is not UTF-8: no dump can be filed under it; rename it"
	}
	f, err := os.Open(filepath.Join(s.folder, name))
	if err != nil {
		return "" // the dump will say why it cannot be read
	}
	defer f.Close()
	head := make([]byte, len(magic))
	n, err := io.ReadFull(f, head)
	if n == 0 && err == io.EOF || string(head) == magic {
		return ""
	}
	return "it does not begin as a SQLite file does: it is another file, or its head is damaged (name it to have it dumped " +
		"all the same, or leave it out with except)"
}

// note says how a dump and the application's writers get on with each other.
func (s *source) note(ctx context.Context, name string) string {
	c, err := s.open(name)
	if err != nil {
		return "cannot be opened: " + err.Error()
	}
	defer c.close()
	mode, err := c.value(ctx, "PRAGMA journal_mode")
	if err != nil {
		return "cannot be read: " + err.Error()
	}
	if mode == "wal" {
		return "write-ahead log: writers go on during a dump"
	}
	if s.at.CopyFirst {
		return "rollback journal: writers wait while the file is copied"
	}
	return "rollback journal: a dump keeps writers out; see copy_first"
}

func (s *source) open(name string) (*conn, error) {
	path := filepath.Join(s.folder, name)
	if _, err := os.Stat(path); err != nil {
		return nil, fault.New("database-absent", nil, "there is no database %s in %s", name, s.folder)
	}
	return openConn(path, lib.SQLITE_OPEN_READONLY, s.at.LockWait)
}

func (s *source) Snapshot(ctx context.Context, name string) (engine.Snapshot, error) {
	state := stateOf(filepath.Join(s.folder, name))
	c, err := s.open(name)
	if err != nil {
		return nil, explain(name, err)
	}
	copied := ""
	var moment time.Time
	if s.at.CopyFirst && s.scratch != "" {
		if c, copied, moment, err = s.copied(ctx, c); err != nil {
			return nil, explain(name, err)
		}
	}
	snap, err := newSnapshot(ctx, c)
	if err != nil {
		c.close()
		return nil, explain(name, err)
	}
	if snap.copied = copied; copied != "" {
		snap.moment = moment
	}
	snap.cat.Position = state
	return snap, nil
}

// explain turns the library's errors into what an administrator can act on.
func explain(name string, err error) error {
	var f *fault.Error
	switch {
	case err == nil || errors.As(err, &f):
		return err
	case is(err, lib.SQLITE_BUSY), is(err, lib.SQLITE_LOCKED):
		return fault.New("locked", err, "another process keeps %s locked", name).
			Advise("see who has it open ('fuser FILE'), or give it more time with lock_wait")
	case is(err, lib.SQLITE_CORRUPT), is(err, lib.SQLITE_NOTADB):
		return fault.New("source-damaged", err, "the file %s is damaged", name).
			Advise("what could be read is not a dump; restore it from an earlier one")
	case is(err, lib.SQLITE_CANTOPEN), is(err, lib.SQLITE_READONLY), is(err, lib.SQLITE_PERM):
		return fault.New("source-unreadable", err, "cannot open %s", name).
			Advise("check who may read it; a file left in the middle of a write must be opened once by its application")
	}
	return fmt.Errorf("%s: %w", name, err)
}

// snapshot is one read transaction. Its only reader works on its connection.
type snapshot struct {
	c      *conn
	moment time.Time
	cat    *engine.Catalog
	copied string // the copy that is read, to be removed
}

func newSnapshot(ctx context.Context, c *conn) (*snapshot, error) {
	// The first read, not BEGIN, fixes the moment.
	if err := c.exec(ctx,
		settings+"PRAGMA cache_size=-8192;\nPRAGMA query_only=ON;\nBEGIN;\nSELECT count(*) FROM sqlite_schema;"); err != nil {
		return nil, err
	}
	s := &snapshot{c: c, moment: clock.Now()}
	var err error
	s.cat, err = readCatalog(ctx, c)
	return s, err
}

func (s *snapshot) Moment() time.Time                         { return s.moment }
func (s *snapshot) Catalog() *engine.Catalog                  { return s.cat }
func (s *snapshot) Width() int                                { return 1 }
func (s *snapshot) Confirm(context.Context) ([]string, error) { return nil, nil }

// Close ends the transaction, and removes the copy if there is one.
func (s *snapshot) Close() error {
	err := s.c.close()
	if s.copied != "" {
		removeCopy(s.copied)
	}
	return err
}

func (s *snapshot) Reader(context.Context) (engine.Reader, error) { return &reader{s}, nil }

func (s *snapshot) Ask(ctx context.Context, sql string) (string, error) {
	var rows []string
	err := s.c.each(ctx, sql, func(st *stmt) error {
		values := make([]string, st.n)
		for i := range st.n {
			values[i] = st.text(i)
		}
		rows = append(rows, strings.Join(values, "|"))
		return nil
	})
	return strings.Join(rows, "\n"), err
}

type reader struct{ s *snapshot }

func (r *reader) Close() error { return nil }

// piece is the length at which a row is handed on before it is complete.
const piece = 128 << 10

func (r *reader) Read(ctx context.Context, t *engine.Table, _ engine.Part, to engine.Rows) error {
	return r.read(ctx, t, "", to, nil)
}

// read reads the rows of a table, each after its key, where keys are asked for.
func (r *reader) read(ctx context.Context, t *engine.Table, where string, to engine.Rows, keys engine.KeyedRows) error {
	enc := encoding(r.s.cat.Facts["encoding"])
	row, key := make([]byte, 0, 2*piece), []byte{}
	generated, err := beside(ctx, r.s.c, t)
	if err != nil {
		return explain(t.ID, err)
	}
	to = &bounded{Rows: to, table: t.ID}
	query, n := "SELECT "+columnList(t.Columns), len(t.Columns)
	first := n // of the key's columns
	if generated != "" {
		query, first = query+", "+generated, n+1
	}
	if keys != nil && len(t.Key) > 0 {
		query += ", " + strings.Join(t.Key, ", ")
	}
	query += " FROM " + t.ID + r.choice(t, where)
	if keys != nil && len(t.Key) > 0 {
		query += " ORDER BY " + strings.Join(t.Key, ", ")
	}
	err = r.s.c.each(ctx, query, func(s *stmt) error {
		if keys != nil {
			key = appendKey(key[:0], s, first, enc)
			keys.Key(key)
		}
		if generated != "" {
			to.Beside(s.utf8(n))
		}
		row = append(row[:0], '(')
		for i := range n {
			if i > 0 {
				row = append(row, ',')
			}
			var err error
			if row, err = appendLong(row, s, i, enc, to); err != nil {
				return err
			}
		}
		return to.Row(append(row, ')'), false)
	})
	if err != nil {
		return explain(t.ID, err)
	}
	return nil
}

// choice is which rows of a table are meant: the administrator's condition, and another one.
func (r *reader) choice(t *engine.Table, where string) string {
	var all []string
	if t.Condition != "" {
		all = append(all, "("+t.Condition+")")
	}
	if where != "" {
		all = append(all, where)
	}
	if len(all) == 0 {
		return ""
	}
	return " WHERE " + strings.Join(all, " AND ")
}

// maxRow keeps a row's text below what a statement may be, one billion bytes: a longer one
// could never be loaded again.
const maxRow = 1_000_000_000 - 4<<20 // bytes

// bounded refuses a row that no statement can hold.
type bounded struct {
	engine.Rows
	table  string
	length int64 // of the row so far
}

// Row implements engine.Rows.
func (b *bounded) Row(p []byte, more bool) error {
	if b.length += int64(len(p)); b.length > maxRow {
		return fault.New("row-too-long", nil,
			"a row of %s makes more than %d MiB of SQL, which no statement may have: it could "+
				"never be loaded again", b.table,
			maxRow>>20).Advise("leave the table out (skip_tables), or those rows (rows)")
	}
	if !more {
		b.length = 0
	}
	return b.Rows.Row(p, more)
}

// appendLong writes a value, handing a long one on piece by piece so that its
// text is never held whole. A long text with control characters is cast from its
// bytes.
func appendLong(row []byte, s *stmt, i int, enc encoding, to engine.Rows) ([]byte, error) {
	kind := s.kind(i)
	if kind != lib.SQLITE_BLOB && kind != lib.SQLITE_TEXT {
		return appendValue(row, s, i, kind, enc), nil
	}
	raw := s.raw(i)
	if len(raw) < piece {
		return handOn(appendValue(row, s, i, kind, enc), to)
	}
	open, end, encode := "X'", "'", hex.AppendEncode
	if kind == lib.SQLITE_TEXT {
		open, end = "CAST(X'", "' AS TEXT)"
		if controls, _, valid := scanText(raw); valid && controls == 0 && enc.order() == nil {
			open, end, encode = "'", "'", appendDoubled
		}
	}
	row = append(row, open...)
	for len(raw) > 0 {
		n := min(len(raw), piece/2)
		row = encode(row, raw[:n])
		raw = raw[n:]
		var err error
		if row, err = handOn(row, to); err != nil {
			return row, err
		}
	}
	return append(row, end...), nil
}

func handOn(row []byte, to engine.Rows) ([]byte, error) {
	if len(row) < piece {
		return row, nil
	}
	return row[:0], to.Row(row, true)
}

// Pin notes where copies may be put. Each file has a moment of its own.
func (s *source) Pin(_ context.Context, _ []string, scratch string) error {
	s.scratch = scratch
	return nil
}
