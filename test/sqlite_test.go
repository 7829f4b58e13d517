package test

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"sort"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"grainkeep/internal/demo"
)

// nasty holds what SQLite files can hold.
const nasty = `
PRAGMA page_size = 8192; PRAGMA encoding = 'ENCODING'; PRAGMA application_id = 77; PRAGMA user_version = -3; PRAGMA auto_vacuum = 1;
CREATE TABLE any_value (v);
INSERT INTO any_value VALUES (NULL), (1), (-9223372036854775808), (9223372036854775807), (1.0), (0.1), (-0.0),
	(1e400), (-1e400), (5e-324), (1e23),
	(''), ('it''s'), ('a' || char(10) || 'b' || char(13)), ('nul' || char(0) || 'nul'), (CAST(X'ff61fe62' AS TEXT)), ('日本 ⚓ é'), (X''), (X'00ff27'), ('123'), (char(0x10FFFF)),
	(printf('%.*c', 300000, 'x')), (randomblob(300000)), (replace(printf('%.*c', 900, 'y'), 'y', 'l' || char(10)));
CREATE TABLE affinities (i INTEGER, t TEXT, n NUMERIC, r REAL, b BLOB, d DATETIME, o BOOLEAN);
INSERT INTO affinities VALUES ('abc', 12, '12x', 3, 'text', '2026-03-14 09:30:00', 1), (1.5, 1.5, 1e300, 1e15, 7,
	20260314, 'yes'), (9007199254740993, X'00', '0x10', '1e3', 1.5, 2.5, NULL);
CREATE TABLE no_alias (a TEXT); INSERT INTO no_alias(rowid, a) VALUES (-5, 'minus'), (10, 'ten'),
	(9223372036854775807, 'max');
CREATE TABLE shadowed (rowid TEXT, _rowid_ TEXT, a); INSERT INTO shadowed(oid, rowid, a) VALUES (42, 'not a rowid', 1);
CREATE TABLE desc_key (id INTEGER PRIMARY KEY DESC, v); INSERT INTO desc_key(rowid, id, v) VALUES (8, 1, 'x');
CREATE TABLE counted (id INTEGER PRIMARY KEY AUTOINCREMENT, v); INSERT INTO counted VALUES (500, 'x'), (900, 'y');
	DELETE FROM counted WHERE id = 900;
CREATE TABLE wr (k TEXT, n INT, v, PRIMARY KEY (n, k)) WITHOUT ROWID; INSERT INTO wr VALUES ('b', 2, 1), ('a', 2, NULL);
CREATE TABLE strict_one (id INTEGER PRIMARY KEY, a ANY, r REAL, b BLOB) STRICT; INSERT INTO strict_one VALUES (1,
	'12', 3, X'01'), (2, 12, 1e5, NULL);
CREATE TABLE generated (a INT, v INT GENERATED ALWAYS AS (a * 2) VIRTUAL, s INT GENERATED ALWAYS AS (a + 1) STORED,
	z INT); INSERT INTO generated(a, z) VALUES (4, 9);
CREATE TABLE parent (id INTEGER PRIMARY KEY, c INT CHECK (c > 0)); CREATE TABLE child (p INT REFERENCES parent(id));
	INSERT INTO child VALUES (77);
PRAGMA ignore_check_constraints = ON; INSERT INTO parent VALUES (1, -1); PRAGMA ignore_check_constraints = OFF;
CREATE TABLE "order" ("select ""x""" TEXT, "new
line" INT, "a b" INT); INSERT INTO "order" VALUES ('q', 1, 2);
CREATE TABLE "odd ); name" (a); INSERT INTO "odd ); name" VALUES (');');
CREATE TABLE empty_one (a);
CREATE UNIQUE INDEX u ON counted (v COLLATE NOCASE DESC); CREATE INDEX part ON any_value (typeof(v)) WHERE v IS NOT
	NULL;
CREATE TABLE commented (a INT -- first
, b TEXT /* -- */ DEFAULT '--') -- the end
; INSERT INTO commented VALUES (1, '-- no comment');
CREATE VIEW w AS SELECT a, v FROM generated; CREATE VIEW w2 AS SELECT 1 AS one -- why
; CREATE TRIGGER tr INSTEAD OF INSERT ON w BEGIN INSERT INTO generated(a) VALUES (new.a); SELECT 1; END;
CREATE TRIGGER no_delete BEFORE DELETE ON parent BEGIN SELECT raise(ABORT, 'no; never'); END;
CREATE VIRTUAL TABLE search USING fts5(body, title, tokenize = 'unicode61'); INSERT INTO search VALUES
	('the tern dives', 'one'), ('a skerry', 'two'); DELETE FROM search WHERE title = 'two';
CREATE VIRTUAL TABLE bare USING fts5(body, content = ''); INSERT INTO bare(rowid, body) VALUES (3, 'nothing kept');
CREATE VIRTUAL TABLE area USING rtree(id, x0, x1, +note TEXT); INSERT INTO area VALUES (1, 0.5, 2.5, 'harbour');
ANALYZE;
`

func openFile(t *testing.T, path string) *sql.DB {
	t.Helper()
	db, err := demo.OpenSQLite(path)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	return db
}

func makeFile(t *testing.T, path, script string) {
	t.Helper()
	db, err := demo.OpenSQLite(path)
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec(script)
	require.NoError(t, err)
}

// contents reads a file through the driver: structure, settings, and the type and
// bytes of every value. It shares no code with the engine.
func contents(t *testing.T, path string) []string {
	t.Helper()
	db, err := demo.OpenSQLite(path)
	require.NoError(t, err)
	defer db.Close()
	var out []string
	read := func(query string) {
		rows, err := db.Query(query)
		require.NoError(t, err, query)
		defer rows.Close()
		columns, err := rows.Columns()
		require.NoError(t, err)
		for rows.Next() {
			values := make([]any, len(columns))
			for i := range values {
				values[i] = new(any)
			}
			require.NoError(t, rows.Scan(values...))
			line := query
			for _, v := range values {
				switch x := (*v.(*any)).(type) {
				case float64:
					line += fmt.Sprintf("|real %x", math.Float64bits(x))
				default:
					line += fmt.Sprintf("|%T %q", x, fmt.Sprint(x))
				}
			}
			if len(line) > 500 {
				line = fmt.Sprintf("%.60q %x", line, sha256.Sum256([]byte(line)))
			}
			out = append(out, line)
		}
		require.NoError(t, rows.Err())
	}
	for _, p := range []string{"page_size", "encoding", "application_id", "user_version", "auto_vacuum",
		"journal_mode"} {
		read("PRAGMA " + p)
	}
	read("SELECT type, name, tbl_name, sql FROM sqlite_schema WHERE name <> 'sqlite_stat4' ORDER BY type, name")
	rows, err := db.Query(`SELECT l.name, group_concat('"' || replace(x.name, '"', '""') || '"', ','), l.wr FROM
		pragma_table_list l, pragma_table_xinfo(l.name) x
		WHERE l.schema = 'main' AND l.type IN ('table', 'shadow') AND l.name NOT IN ('sqlite_schema',
			'sqlite_stat4') GROUP BY l.name ORDER BY l.name`)
	require.NoError(t, err)
	var tables [][3]string
	for rows.Next() {
		var x [3]string
		require.NoError(t, rows.Scan(&x[0], &x[1], &x[2]))
		tables = append(tables, x)
	}
	require.NoError(t, rows.Err())
	for _, x := range tables {
		var exprs []string
		for c := range strings.SplitSeq(x[1], ",") {
			exprs = append(exprs, "typeof("+c+"), CAST("+c+" AS BLOB), +"+c)
		}
		if x[2] == "0" && x[0] != "shadowed" && !strings.HasPrefix(x[0], "sqlite_") {
			exprs = append(exprs, "rowid")
		} else if x[0] == "shadowed" {
			exprs = append(exprs, "oid")
		}
		read("SELECT " + strings.Join(exprs, ", ") + ` FROM "` + strings.ReplaceAll(x[0], `"`, `""`) +
			`" ORDER BY 1, 2, 3`)
	}
	sort.Strings(out)
	return out
}

// byHand runs the lines of a dump's README.
func byHand(t *testing.T, dump string, replace *strings.Replacer, env ...string) string {
	t.Helper()
	out := sh(t, dump, replace.Replace(handScript(t, dump)), env...)
	if !strings.Contains(dump, "/+server/") {
		require.Contains(t, out, "every row is there")
	}
	return out
}

// handScript is the lines of a dump's README that restore it.
func handScript(t *testing.T, dump string) string {
	t.Helper()
	readme, err := os.ReadFile(filepath.Join(dump, "README.txt"))
	require.NoError(t, err)
	_, part, ok := strings.Cut(string(readme), "Each\nmust succeed before the next.\n")
	require.True(t, ok)
	var script []string
	for _, m := range regexp.MustCompile(`(?m)^    (.*)$`).FindAllStringSubmatch(part, -1) {
		script = append(script, m[1])
	}
	return strings.Join(script, "\n")
}

func TestSQLiteComesBackExactly(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ encoding, compression string }{{"UTF-8", "zstd"}, {"UTF-16le", "gzip"}, {"UTF-16be",
		"none"}} {
		t.Run(c.encoding+" "+c.compression, func(t *testing.T) {
			dir := t.TempDir()
			source := filepath.Join(dir, `a b"c'd`+"\ne.db")
			makeFile(t, source, strings.Replace(nasty, "ENCODING", c.encoding, 1))
			run(t, dir, -1, "dump", "--from", source, "--to", "keep", "--compression", c.compression)
			listed := result(t, dir, 0, "list", "--from", "keep")["result"].([]any)[0].(map[string]any)
			dump := listed["path"].(string)
			run(t, dir, 0, "drill", dump)
			run(t, dir, 0, "restore", dump, "--to", dir, "--as", "restored.db")
			want := contents(t, source)
			require.Greater(t, len(want), 60)
			sameLines(t, want, contents(t, filepath.Join(dir, "restored.db")))
			byHand(t, dump, strings.NewReplacer(), "HOME="+dir)
			sameLines(t, want, contents(t, filepath.Join(dir, `restored-a b"c'd_e.db`)))
		})
	}
}

func TestSQLiteRefusesByName(t *testing.T) {
	dir := t.TempDir()
	for script, say := range map[string]string{
		"CREATE VIRTUAL TABLE v USING dbstat(main)":                  "virtual table v uses the module dbstat",
		"CREATE TABLE t (a COLLATE harbour); CREATE INDEX i ON t(a)": "no such collation",
	} {
		path := filepath.Join(dir, "x.db")
		os.Remove(path)
		db, err := demo.OpenSQLite(path)
		require.NoError(t, err)
		_, err = db.Exec(script)
		db.Close()
		if err != nil { // the library itself refuses to make it
			require.ErrorContains(t, err, say)
			continue
		}
		o := run(t, dir, 1, "dump", "--from", path, "--to", "keep")
		require.Contains(t, o.stderr, say)
		require.Contains(t, o.stderr, "nothing was dumped")
	}
}

func TestSQLiteLockedDamagedAbsent(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "x.db")
	makeFile(t, path, "CREATE TABLE t (a); INSERT INTO t VALUES (1)")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), []byte(`[source.f]
engine = "sqlite"
path = "x.db"
[keep.k]
folder = "keep"
[job.j]
source = "f"
keep = "k"
lock_wait = "1 s"
`), 0o600))
	run(t, dir, 0, "keep", "create", "k")
	db := openFile(t, path)
	c, err := db.Conn(context.Background())
	require.NoError(t, err)
	_, err = c.ExecContext(context.Background(), "BEGIN EXCLUSIVE")
	require.NoError(t, err)
	require.Contains(t, run(t, dir, 1, "dump", "j").stderr, "another process keeps x.db locked")
	_, err = c.ExecContext(context.Background(), "COMMIT")
	require.NoError(t, err)
	require.NoError(t, c.Close())
	run(t, dir, 3, "dump", "j")

	data, err := os.ReadFile(path)
	require.NoError(t, err)
	for i := 4096; i < len(data); i++ {
		data[i] ^= 0x5a
	}
	require.NoError(t, os.WriteFile(path, data, 0o600))
	o := run(t, dir, 1, "dump", "j")
	require.Contains(t, o.stderr, "x.db was not dumped")
	require.Contains(t, o.stderr, "is damaged")
	require.NoError(t, os.Remove(path))
	require.Contains(t, run(t, dir, 1, "dump", "j").stderr, "the entry \"*\" of databases matches nothing")
	require.Len(t, result(t, dir, 0, "list", "--all")["result"], 1, "the good dump is still there")
}

func TestSQLiteReplaceAndOnly(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, demo.LoadSQLite(context.Background(), filepath.Join(dir, "data"), 1))
	run(t, dir, -1, "dump", "--from", "data", "--to", "keep", "--job", "nightly")
	require.Contains(t, run(t, dir, 1, "restore", "nightly/cargo.db", "--from", "keep", "--to", "data").stderr,
		"cargo.db exists already")
	before := contents(t, filepath.Join(dir, "data/cargo.db"))

	inUse := openFile(t, filepath.Join(dir, "data/roster.db"))
	tx, err := inUse.Begin()
	require.NoError(t, err)
	_, err = tx.Exec("UPDATE crew SET rank = 'mate'")
	require.NoError(t, err)
	require.Contains(t, run(t, dir, 1, "restore", "nightly/roster.db", "--from", "keep", "--to", "data",
		"--replace").stderr, "roster.db is in use")
	require.NoError(t, tx.Rollback())

	o := run(t, dir, 0, "restore", "nightly/cargo.db", "--from", "keep", "--to", "data", "--replace")
	aside := regexp.MustCompile(`is now called (\S+)`).FindStringSubmatch(o.stderr)
	require.NotNil(t, aside, o.stderr)
	sameLines(t, before, contents(t, filepath.Join(dir, "data", aside[1])))
	sameLines(t, before, contents(t, filepath.Join(dir, "data/cargo.db")))

	run(t, dir, 0, "restore", "nightly/bookings.db", "--from", "keep", "--to", "data", "--as", "part.db", "--only",
		"posting", "--only", "port")
	got := strings.Join(contents(t, filepath.Join(dir, "data/part.db")), "\n")
	require.Contains(t, got, "posting_account", "with its index")
	require.NotContains(t, got, "CREATE TABLE booking")
	require.Contains(t, run(t, dir, 2, "restore", "nightly/bookings.db", "--from", "keep", "--to", "data", "--as",
		"p2.db", "--only", "ghost").stderr, `no table "ghost"`)
	entries, err := filepath.Glob(filepath.Join(dir, "data", ".*"))
	require.NoError(t, err)
	require.Empty(t, entries, "no working file is left")
}

// TestSQLiteCopyFirst: in rollback-journal mode a dump keeps writers out for as long as
// it reads; from a copy, only while the pages are copied.
func TestSQLiteCopyFirst(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, demo.LoadSQLite(context.Background(), filepath.Join(dir, "data"), 1))
	require.Contains(t, run(t, dir, 0, "survey", "--from", "data").stdout, "a dump keeps writers out; see copy_first")
	config := "[source.s]\nengine = \"sqlite\"\npath = \"data\"\n[keep.k]\nfolder = \"keep\"\n[job.j]\nsource = " +
		"\"s\"\nkeep = \"k\"\ncompression = \"none\"\ncopy_first = true\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), []byte(config), 0o600))
	run(t, dir, 0, "keep", "create", "k")
	file := filepath.Join(dir, "data", "bookings.db")
	makeFile(t, file,
		"WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 400000) INSERT INTO posting "+
			"(account_id, amount) SELECT 1, 0 FROM n")
	db, err := demo.OpenSQLite(file)
	require.NoError(t, err)
	defer db.Close()
	write := "PRAGMA busy_timeout = 0; UPDATE port SET name = name || '!' WHERE code = 'SKR'"
	for _, copied := range []bool{true, false} {
		if !copied {
			config = strings.Replace(config, "copy_first = true\n", "", 1)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), []byte(config), 0o600))
		}
		cmd, wait := frozen(t, dir, "dump", "j/bookings.db")
		_, err = db.Exec(write)
		require.Equal(t, copied, err == nil, "a writer gets in while a dump reads: %v", err)
		require.NoError(t, cmd.Process.Signal(syscall.SIGCONT))
		o := wait()
		require.Equal(t, 3, o.code, o.stderr)
		run(t, dir, 0, "drill", lines(o.stdout)[0])
		require.NoDirExists(t, filepath.Join(dir, "keep", ".work"))
	}
	require.Equal(t, "Skerryvoe", strings.TrimSpace(sh(t, dir,
		"cat keep/j/bookings.db/*/20-data/port/part-0001.sql | grep -o 'Skerryvoe!*' | head -1")),
		"the first dump is of the moment of its copy")
}

// TestSQLiteWriteAheadLog: rows that are only in the log belong to the dump; writers go
// on while it reads, and are not seen.
func TestSQLiteWriteAheadLog(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "w.db")
	db, err := demo.OpenSQLite(file)
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec("PRAGMA journal_mode = wal; PRAGMA wal_autocheckpoint = 0; CREATE TABLE cargo (i INTEGER " +
		"PRIMARY KEY, t TEXT); WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 400000) " +
		"INSERT INTO cargo SELECT i, 'crate ' || i FROM n")
	require.NoError(t, err)
	st, err := os.Stat(file + "-wal")
	require.NoError(t, err)
	require.Greater(t, st.Size(), int64(1<<20))
	cmd, wait := frozen(t, dir, "dump", "--from", "w.db", "--to", "keep", "--compression", "none")
	_, err = db.Exec("PRAGMA busy_timeout = 0; DELETE FROM cargo WHERE i > 10")
	require.NoError(t, err, "a writer goes on")
	require.NoError(t, cmd.Process.Signal(syscall.SIGCONT))
	o := wait()
	require.Equal(t, 3, o.code, o.stderr)
	run(t, dir, 0, "drill", lines(o.stdout)[0])
	run(t, dir, 0, "restore", lines(o.stdout)[0], "--to", dir, "--as", "back.db")
	require.Equal(t, "400000|wal\n", sh(t, dir,
		"sqlite3 back.db \"SELECT count(*), (SELECT * FROM pragma_journal_mode) FROM cargo\""))
}

// TestSQLiteOddNamesAndLongRows: names that look like the end of a statement load again; a row that no
// statement could hold is refused before it is too late; a replaced file keeps its owner.
func TestSQLiteOddNamesAndLongRows(t *testing.T) {
	dir := t.TempDir()
	data := filepath.Join(dir, "data")
	require.NoError(t, os.Mkdir(data, 0o700))
	file := filepath.Join(data, "a.db")
	makeFile(t, file, "CREATE TABLE \"a);\nb\" (\"c VALUES\n\" int, \"`d\" text); INSERT INTO \"a);\nb\" VALUES (1, ');'), (2, char(10))")
	path := lines(run(t, dir, -1, "dump", "--from", file, "--to", "keep").stdout)[0]
	require.Contains(t, run(t, dir, 0, "drill", path).stdout, "proven")
	before := contents(t, file)
	if os.Getuid() == 0 {
		require.NoError(t, os.Chown(file, 4711, 4712))
	}
	run(t, dir, 0, "restore", path, "--to", data, "--replace")
	sameLines(t, before, contents(t, file))
	if st, err := os.Stat(file); os.Getuid() == 0 {
		require.NoError(t, err)
		require.EqualValues(t, 4711, st.Sys().(*syscall.Stat_t).Uid)
	}
	long := filepath.Join(dir, "long.db")
	makeFile(t, long, "CREATE TABLE t (a, b); INSERT INTO t VALUES (zeroblob(270000000), zeroblob(270000000))")
	require.Contains(t, run(t, dir, 1, "dump", "--from", long, "--to", "keep").stderr,
		"a row of t makes more than 949 MiB of SQL, which no statement may have")
	require.NoError(t, os.Remove(long))

	odd := filepath.Join(data, "\xff.db")
	makeFile(t, odd, "CREATE TABLE t (a)")
	o := run(t, dir, 3, "dump", "--from", data, "--to", "keep", "--job", "all")
	require.Contains(t, o.stderr, `warning: \xff.db: it is left out: the name of the file is not UTF-8`)
}
