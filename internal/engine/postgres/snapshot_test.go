package postgres

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/testserver"
)

var server *testserver.Postgres

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "grainkeep-engine-")
	if err == nil {
		os.Chmod(dir, 0o755)
		server, err = testserver.StartPostgres(dir)
	}
	if err != nil && !errors.Is(err, testserver.ErrAbsent) {
		panic(err)
	}
	code := m.Run()
	if server != nil {
		server.Close()
	}
	os.RemoveAll(dir)
	os.Exit(code)
}

// fresh gives a source, and a connection to a new database of its server.
func fresh(t *testing.T, name, script string) (*source, *pgx.Conn) {
	t.Helper()
	if server == nil {
		t.Skip(testserver.ErrAbsent)
	}
	ctx := context.Background()
	src, err := driver{}.Open(ctx, engine.Location{Engine: "postgres", Server: net.JoinHostPort("127.0.0.1",
		fmt.Sprint(server.Port)),
		User: testserver.Admin, LockWait: 300 * time.Millisecond})
	require.NoError(t, err)
	s := src.(*source)
	_, err = s.home.Exec(ctx, "CREATE DATABASE "+name)
	require.NoError(t, err)
	c, err := server.Connect(ctx, name)
	require.NoError(t, err)
	_, err = c.Exec(ctx, script)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close(ctx); s.Close() })
	return s, c
}

type text struct{ bytes.Buffer }

func (x *text) Row(p []byte, more bool) error {
	x.Write(p)
	if !more {
		x.WriteByte('\n')
	}
	return nil
}

func (x *text) Beside([]byte) {}

func readTable(t *testing.T, snap engine.Snapshot, id string) string {
	t.Helper()
	r, err := snap.Reader(context.Background())
	require.NoError(t, err)
	defer r.Close()
	for i, tab := range snap.Catalog().Tables {
		if tab.ID == id {
			var x text
			require.NoError(t, r.Read(context.Background(), &snap.Catalog().Tables[i], engine.Part{}, &x))
			return x.String()
		}
	}
	return "no such table"
}

// TestSequencesAreNotHeld: a database has thousands of them, and a server room for some
// thousands of locks.
func TestSequencesAreNotHeld(t *testing.T) {
	ctx := context.Background()
	s, c := fresh(t, "numbered", "CREATE SEQUENCE a START 5; CREATE TABLE t (id serial); SELECT nextval('a')")
	snap, err := s.Snapshot(ctx, "numbered")
	require.NoError(t, err)
	defer snap.Close()
	var held int
	require.NoError(t, c.QueryRow(ctx, "SELECT count(*) FROM pg_locks l JOIN pg_class r ON r.oid = l.relation "+
		"WHERE r.relkind = 'S'").Scan(&held))
	require.Zero(t, held)
	values := ""
	for _, o := range snap.Catalog().Objects {
		if o.Kind == "sequence value" {
			values += o.SQL
		}
	}
	require.Contains(t, values, "SELECT setval(s, 5, true) FROM CAST('public.a' AS regclass) s;\n")
	require.Contains(t, values, "SELECT setval(s, 1, false) FROM CAST('public.t_id_seq' AS regclass) s;\n")
}

// TestNothingChangesUnderASnapshot: once the snapshot is there, nobody can empty,
// alter or drop a table before it is read.
func TestNothingChangesUnderASnapshot(t *testing.T) {
	ctx := context.Background()
	s, c := fresh(t, "pinned",
		"CREATE TABLE a AS SELECT 1 AS v; CREATE TABLE b AS SELECT 2 AS v; SET lock_timeout = '100ms'")
	snap, err := s.Snapshot(ctx, "pinned")
	require.NoError(t, err)
	for _, ddl := range []string{"TRUNCATE a", "ALTER TABLE a ALTER v TYPE text", "DROP TABLE b",
		"ALTER TABLE b RENAME TO z", "VACUUM FULL a"} {
		_, err := c.Exec(ctx, ddl)
		require.ErrorContains(t, err, "55P03", ddl)
	}
	_, err = c.Exec(ctx, "INSERT INTO a VALUES (3); CREATE TABLE later AS SELECT 1 AS v")
	require.NoError(t, err, "writers are not disturbed")
	require.Equal(t, "1\n", readTable(t, snap, "public.a"), "and not seen")
	require.Equal(t, "no such table", readTable(t, snap, "public.later"))
	_, err = snap.Confirm(ctx)
	require.NoError(t, err)
	require.NoError(t, snap.Close())

	snap, err = s.Snapshot(ctx, "pinned")
	require.NoError(t, err)
	defer snap.Close()
	_, err = c.Exec(ctx,
		"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'grainkeep' AND datname "+
			"= 'pinned'")
	require.NoError(t, err)
	_, err = snap.Confirm(ctx)
	require.True(t, fault.HasCode(err, "snapshot-lost"))
}

// interloper runs a statement of somebody else's before a connection's n-th query.
type interloper struct {
	other *pgx.Conn
	sql   string
	n     int
	err   error
}

func (i *interloper) TraceQueryStart(ctx context.Context, _ *pgx.Conn, _ pgx.TraceQueryStartData) context.Context {
	if i.n--; i.n == 0 {
		_, i.err = i.other.Exec(context.Background(), i.sql)
	}
	return ctx
}

func (i *interloper) TraceQueryEnd(context.Context, *pgx.Conn, pgx.TraceQueryEndData) {}

// TestEachChangeWhileTheCatalogIsRead makes one change of each kind at several points
// of reading the catalog. What was read is all from before or all from after it.
func TestEachChangeWhileTheCatalogIsRead(t *testing.T) {
	ctx := context.Background()
	s, c := fresh(t, "shifting", `CREATE SCHEMA s; CREATE TABLE a (x int, y int); CREATE INDEX ix ON a (x); CREATE
		TYPE s.e AS ENUM ('a', 'b'); CREATE TYPE s.p AS (k int);
		CREATE DOMAIN d AS int; CREATE SEQUENCE q; CREATE FUNCTION s.f() RETURNS int LANGUAGE sql AS 'SELECT 1';
			CREATE FUNCTION s.g() RETURNS s.e LANGUAGE sql BEGIN ATOMIC SELECT 'a'::s.e; END;
		CREATE VIEW v AS SELECT x, s.f() AS z, 'b'::s.e AS e FROM a; CREATE VIEW w AS SELECT z FROM v; CREATE
			MATERIALIZED VIEW m AS SELECT s.f() AS one; CREATE AGGREGATE s.agg(int) (SFUNC = int4pl, STYPE = int);
		CREATE FUNCTION tf() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN new; END'; CREATE TRIGGER tr AFTER
			INSERT ON a EXECUTE FUNCTION tf(); CREATE RULE r AS ON UPDATE TO v DO INSTEAD NOTHING; CREATE ROLE
			shifter; SET lock_timeout = '50ms'`)
	read := func(i *interloper) (map[string]string, error) {
		cfg, err := s.config("shifting")
		require.NoError(t, err)
		cfg.Tracer = i
		conn, err := pgx.ConnectConfig(ctx, cfg)
		require.NoError(t, err)
		defer conn.Close(ctx)
		_, err = conn.Exec(ctx, settings)
		require.NoError(t, err)
		snap := &snapshot{s: s, database: "shifting", c: conn}
		for whole := false; !whole; {
			if whole, err = snap.try(ctx); err != nil {
				return nil, err
			}
		}
		got := map[string]string{}
		for _, o := range snap.cat.Objects {
			got[o.ID()] = o.SQL
		}
		return got, nil
	}
	queries, points := 200, 4
	if os.Getenv(testserver.Variable) != "" { // once more, on another version
		points = 2
	}
	var before map[string]string
	for _, change := range [][2]string{
		{"CREATE TABLE n (x int)", "DROP TABLE n"}, {"DROP TABLE a CASCADE", ""}, {"ALTER TABLE a RENAME y TO yy",
			""}, {"TRUNCATE a", ""},
		{"ALTER SCHEMA s RENAME TO s9", "ALTER SCHEMA s9 RENAME TO s"}, {"ALTER VIEW v SET SCHEMA s",
			"ALTER VIEW s.v SET SCHEMA public"}, {"ALTER VIEW v RENAME z TO zz", "ALTER VIEW v RENAME zz TO z"},
		{"ALTER VIEW v RENAME TO vv", "ALTER VIEW vv RENAME TO v"},
		{"CREATE OR REPLACE VIEW w AS SELECT z, 5 AS more FROM v", "DROP VIEW w; CREATE VIEW w AS SELECT z FROM v"},
		{"DROP VIEW w", "CREATE VIEW w AS SELECT z FROM v"}, {"REFRESH MATERIALIZED VIEW m", ""},
		{"DROP MATERIALIZED VIEW m", "CREATE MATERIALIZED VIEW m AS SELECT s.f() AS one"},
		{"ALTER FUNCTION s.f() RENAME TO ff", "ALTER FUNCTION s.ff() RENAME TO f"},
		{"CREATE OR REPLACE FUNCTION s.f() RETURNS int LANGUAGE sql AS 'SELECT 2'",
			"CREATE OR REPLACE FUNCTION s.f() RETURNS int LANGUAGE sql AS 'SELECT 1'"}, {"DROP FUNCTION s.g()",
			"CREATE FUNCTION s.g() RETURNS s.e LANGUAGE sql BEGIN ATOMIC SELECT 'a'::s.e; END"},
		{"ALTER TYPE s.e RENAME TO ee", "ALTER TYPE s.ee RENAME TO e"}, {"ALTER TYPE s.e RENAME VALUE 'b' TO 'bb'",
			"ALTER TYPE s.e RENAME VALUE 'bb' TO 'b'"}, {"ALTER TYPE s.p ADD ATTRIBUTE l int",
			"ALTER TYPE s.p DROP ATTRIBUTE l"}, {"ALTER TYPE s.p RENAME ATTRIBUTE k TO kk",
			"ALTER TYPE s.p RENAME ATTRIBUTE kk TO k"},
		{"ALTER DOMAIN d ADD CONSTRAINT k CHECK (VALUE > 0)", "ALTER DOMAIN d DROP CONSTRAINT k"},
		{"ALTER DOMAIN d SET DEFAULT 4", "ALTER DOMAIN d DROP DEFAULT"}, {"DROP SEQUENCE q", "CREATE SEQUENCE q"},
		{"ALTER SEQUENCE q INCREMENT 5", "ALTER SEQUENCE q INCREMENT 1"},
		{"CREATE INDEX j ON a (y)", "DROP INDEX j"}, {"ALTER INDEX ix RENAME TO ixx", "ALTER INDEX ixx RENAME TO ix"},
		{"CREATE TRIGGER t2 AFTER DELETE ON a EXECUTE FUNCTION tf()", "DROP TRIGGER t2 ON a"},
		{"ALTER TRIGGER tr ON a RENAME TO trr", ""}, {"DROP RULE r ON v",
			"CREATE RULE r AS ON UPDATE TO v DO INSTEAD NOTHING"},
		{"COMMENT ON TABLE a IS 'c'", "COMMENT ON TABLE a IS NULL"}, {"GRANT SELECT ON a TO shifter",
			"REVOKE ALL ON a FROM shifter"},
		{"DROP AGGREGATE s.agg(int)", "CREATE AGGREGATE s.agg(int) (SFUNC = int4pl, STYPE = int)"},
		{"CREATE STATISTICS st ON x, y FROM a", "DROP STATISTICS st"},
	} {
		for n := 4; n < queries; n += 1 + queries/points {
			var err error
			if before == nil {
				i := &interloper{}
				before, err = read(i)
				require.NoError(t, err)
				queries = -i.n
			}
			i := &interloper{other: c, sql: change[0], n: n}
			got, err := read(i)
			require.NoError(t, err, change[0])
			var after map[string]string
			differs := !maps.Equal(before, got)
			if differs {
				after, err = read(&interloper{})
				require.NoError(t, err)
			}
			if i.err == nil && change[1] != "" {
				_, err = c.Exec(ctx, change[1])
				require.NoError(t, err, change[1])
			}
			if differs {
				require.Equal(t, after, got, "%s, before query %d", change[0], n)
			}
			if i.err != nil || change[1] == "" { // it is not as it was
				before = nil
			}
		}
	}
}

// TestTablesThatChangeWhileTheyAreLocked: a table that is rewritten, made or
// dropped between the look and the lock is looked at again.
func TestTablesThatChangeWhileTheyAreLocked(t *testing.T) {
	ctx := context.Background()
	s, c := fresh(t, "moving",
		"CREATE TABLE a AS SELECT i AS v FROM generate_series(1, 50) i; CREATE TABLE gone (v int)")
	s.at.LockWait = 10 * time.Second
	_, err := c.Exec(ctx,
		"BEGIN; TRUNCATE a; INSERT INTO a VALUES (7); DROP TABLE gone; CREATE TABLE made AS SELECT 8 AS v")
	require.NoError(t, err)
	got := make(chan engine.Snapshot)
	go func() {
		snap, err := s.Snapshot(ctx, "moving")
		if err != nil {
			t.Error(err)
		}
		got <- snap
	}()
	require.Eventually(t, func() bool {
		var waiting int
		err := c.QueryRow(ctx, "SELECT count(*) FROM pg_locks WHERE NOT granted").Scan(&waiting)
		return err == nil && waiting == 1
	}, 10*time.Second, 5*time.Millisecond)
	_, err = c.Exec(ctx, "COMMIT")
	require.NoError(t, err)
	snap := <-got
	require.NotNil(t, snap)
	defer snap.Close()
	require.Equal(t, "7\n", readTable(t, snap, "public.a"))
	require.Equal(t, "8\n", readTable(t, snap, "public.made"))
	require.Equal(t, "no such table", readTable(t, snap, "public.gone"))
}

// TestSomebodyWaitsToChangeATable: he waits for the dump, so its readers must not
// wait behind him.
func TestSomebodyWaitsToChangeATable(t *testing.T) {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	s, c := fresh(t, "queued", "CREATE TABLE a AS SELECT 7 AS v")
	snap, err := s.Snapshot(ctx, "queued")
	require.NoError(t, err)
	defer snap.Close()
	gone := make(chan error)
	go func() {
		_, err := c.Exec(context.Background(), "DROP TABLE a")
		gone <- err
	}()
	require.Eventually(t, func() bool {
		var waiting int
		err := s.home.QueryRow(ctx, "SELECT count(*) FROM pg_locks WHERE NOT granted").Scan(&waiting)
		return err == nil && waiting == 1
	}, 10*time.Second, 5*time.Millisecond)
	require.Equal(t, "7\n", readTable(t, snap, "public.a"))
	_, err = snap.Confirm(ctx)
	require.NoError(t, err)
	require.NoError(t, snap.Close())
	require.NoError(t, <-gone)
}

func TestLockedTableIsNamedWithItsHolder(t *testing.T) {
	ctx := context.Background()
	s, c := fresh(t, "stuck", `CREATE TABLE "Pier" (v int)`)
	_, err := c.Exec(ctx, `BEGIN; LOCK TABLE "Pier" IN ACCESS EXCLUSIVE MODE`)
	require.NoError(t, err)
	_, err = s.Snapshot(ctx, "stuck")
	require.True(t, fault.HasCode(err, "lock-wait"), "%v", err)
	require.Contains(t, err.Error(),
		fmt.Sprintf(`public."Pier" in stuck stayed locked for 300 ms by process %d of the server (user %s`,
			c.PgConn().PID(), testserver.Admin))
}

func TestSomebodyElseBringsADatabaseOnward(t *testing.T) {
	ctx := context.Background()
	s, c := fresh(t, "kept_up", "SELECT 1")
	for _, sql := range s.MarkSQL("first") {
		_, err := c.Exec(ctx, sql)
		require.NoError(t, err)
	}
	one, err := s.Onward(ctx, "kept_up", "first")
	require.NoError(t, err)
	_, err = s.Onward(ctx, "kept_up", "first")
	require.EqualError(t, err, "somebody else has been bringing the database kept_up onward for more than 300 ms")
	require.NoError(t, one.Commit(ctx, "second"))
	require.NoError(t, one.Close())
	_, err = s.Onward(ctx, "kept_up", "first")
	require.True(t, fault.HasCode(err, engine.MarkDiffers), "%v", err)
}

func TestSettingsAreTheSameEverywhere(t *testing.T) {
	ctx := context.Background()
	s, c := fresh(t, "settled",
		"CREATE TABLE d AS SELECT date '2026-03-04' AS v, 0.1::float8 AS f, interval '1 day 2 h' AS i, "+
			"12.5::money AS m, '\\x01'::bytea AS b")
	_, err := c.Exec(ctx,
		"ALTER DATABASE settled SET datestyle = 'German'; ALTER DATABASE settled SET extra_float_digits = -10; "+
			"ALTER DATABASE settled SET intervalstyle = 'iso_8601'; ALTER DATABASE settled SET bytea_output = "+
			"'escape'; ALTER DATABASE settled SET default_transaction_read_only = on")
	require.NoError(t, err)
	conn, err := s.connect(ctx, "settled")
	require.NoError(t, err)
	defer closeConn(conn)
	p := &snapshot{s: s, database: "settled", c: conn}
	whole, err := p.try(ctx)
	require.NoError(t, err)
	require.True(t, whole)
	r, err := p.Reader(ctx)
	require.NoError(t, err)
	defer r.Close()
	var x text
	require.NoError(t, r.Read(ctx, &engine.Table{ID: "public.d", Handle: handle{table: "public.d"}}, engine.Part{}, &x))
	require.Equal(t, "2026-03-04\t0.1\t1 day 02:00:00\t$12.50\t\\\\x01\n", x.String())
}

// TestPartsAreTheWhole: the blocks of a split table add up, rows that were moved to
// new blocks since it was measured included.
func TestPartsAreTheWhole(t *testing.T) {
	ctx := context.Background()
	s, c := fresh(t, "split",
		"CREATE TABLE a AS SELECT i AS v, repeat('x', 500) AS pad FROM generate_series(1, 20000) i")
	snap, err := s.Snapshot(ctx, "split")
	require.NoError(t, err)
	defer snap.Close()
	_, err = c.Exec(ctx, "UPDATE a SET v = -v; INSERT INTO a SELECT i, 'new' FROM generate_series(1, 5000) i")
	require.NoError(t, err)
	r, err := snap.Reader(ctx)
	require.NoError(t, err)
	defer r.Close()
	tab := &snap.Catalog().Tables[0]
	require.Greater(t, tab.Blocks, int64(1000))
	tab.Bytes = 1 << 40 // pretend, so that it is split into many parts
	tab.Shares = 2
	parts := tab.Split()
	require.Len(t, parts, int(tab.Blocks))
	read := func(parts ...engine.Part) string {
		var x text
		for _, p := range parts {
			require.NoError(t, r.Read(ctx, tab, p, &x))
		}
		return x.String()
	}
	whole := read(engine.Part{})
	require.Equal(t, 20000, strings.Count(whole, "\n"))
	require.True(t, whole == read(parts...))
	require.Zero(t, parts[len(parts)-1].To, "the last part is open-ended")
	tab.Bytes = 1 << 20
	require.Equal(t, []engine.Part{{}}, tab.Split(), "a small table is one part")
}

func TestCopyStatementWithOddNames(t *testing.T) {
	for _, sql := range []string{`COPY public.t (a) FROM stdin`,
		"COPY public.\"x FROM stdin;\ny\" (\"a\"\"b FROM stdin;\n\") FROM stdin"} {
		in := bufioOf(settings + sql + ";\n1\t2\n\\.\n")
		got, encoding, err := copyStatement(in)
		require.NoError(t, err)
		require.Equal(t, sql, got)
		require.Equal(t, "SET client_encoding = 'UTF8';\nSET search_path = '';\n", encoding)
		rows := int64(0)
		body := &bytes.Buffer{}
		_, err = body.ReadFrom(&copyRows{in: in, seen: func(n int64) { rows += n }})
		require.NoError(t, err)
		require.Equal(t, "1\t2\n", body.String())
		require.EqualValues(t, 1, rows)
	}
	_, err := (&bytes.Buffer{}).ReadFrom(&copyRows{in: bufioOf("1\t2\n"), seen: func(int64) {}})
	require.Error(t, err, "rows without their end are not all rows")
}

func bufioOf(s string) *bufio.Reader { return bufio.NewReaderSize(bytes.NewBufferString(s), 64<<10) }

// TestConfigurationOfExtensions: of a table that an extension made, just the rows that
// are not the extension's own are dumped.
func TestConfigurationOfExtensions(t *testing.T) {
	ctx := context.Background()
	s, _ := fresh(t, "extended", `CREATE EXTENSION hstore; CREATE TABLE conf AS SELECT i AS k, i > 1 AS own FROM
		generate_series(1, 3) i; CREATE TABLE inner_one (a int);
		ALTER EXTENSION hstore ADD TABLE conf; ALTER EXTENSION hstore ADD TABLE inner_one;
		UPDATE pg_extension SET extconfig = ARRAY['conf'::regclass::oid], extcondition = ARRAY['WHERE own'] WHERE
			extname = 'hstore'`)
	snap, err := s.Snapshot(ctx, "extended")
	require.NoError(t, err)
	defer snap.Close()
	require.Equal(t, "2\tt\n3\tt\n", readTable(t, snap, "public.conf"))
	require.Equal(t, "no such table", readTable(t, snap, "public.inner_one"))
	for _, o := range snap.Catalog().Objects {
		require.NotContains(t, o.SQL, "CREATE TABLE")
		require.NotContains(t, o.SQL, "CREATE TYPE")
	}
}

// TestCircleThatNothingBreaks is named, and nothing is dumped.
func TestCircleThatNothingBreaks(t *testing.T) {
	s, _ := fresh(t, "circular",
		`CREATE DOMAIN d AS int; CREATE FUNCTION f(d) RETURNS int LANGUAGE sql AS 'SELECT 1'; ALTER DOMAIN d SET
			DEFAULT f(NULL)`)
	_, err := s.Snapshot(context.Background(), "circular")
	require.True(t, fault.HasCode(err, "cannot-carry"), "%v", err)
	require.Contains(t, err.Error(), "domain public.d → function public.f(public.d)")
}
