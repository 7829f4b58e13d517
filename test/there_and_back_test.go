package test

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/manifest"
	"grainkeep/internal/testserver"
)

// thereAndBack are changes of how PostgreSQL logs the rows of the table 't', or reads them, that are undone before the
// next dump. Every text is then as it was; the rows are not.
var thereAndBack = []struct{ name, sql string }{
	{"key", `ALTER TABLE t DROP CONSTRAINT t_pkey, ADD CONSTRAINT t_pkey PRIMARY KEY (w); UPDATE t SET id = id + 9000 WHERE id = 1;
		ALTER TABLE t DROP CONSTRAINT t_pkey, ADD CONSTRAINT t_pkey PRIMARY KEY (id)`},
	{"unique index", `DROP INDEX other; CREATE UNIQUE INDEX other ON t (w)`},
	{"identity", `ALTER TABLE t REPLICA IDENTITY USING INDEX other; UPDATE t SET w = w + 5000 WHERE id < 9;
		ALTER TABLE t REPLICA IDENTITY DEFAULT`},
	{"deferrable", `ALTER TABLE t DROP CONSTRAINT soon, ADD CONSTRAINT soon UNIQUE (x) DEFERRABLE;
		ALTER TABLE t DROP CONSTRAINT soon, ADD CONSTRAINT soon UNIQUE (x)`},
	{"enum", `ALTER TYPE stage RENAME VALUE 'low' TO 'deep'; UPDATE t SET s = 'deep' WHERE id = 3; ALTER TYPE stage RENAME VALUE 'deep' TO 'low'`},
	{"composite", `ALTER TYPE berth DROP ATTRIBUTE depth; UPDATE t SET b = ROW('x')::berth WHERE id = 4;
		ALTER TYPE berth ADD ATTRIBUTE depth numeric`},
	{"domain", `ALTER DOMAIN knots DROP CONSTRAINT fast; UPDATE t SET k = -1 WHERE id = 5; UPDATE t SET k = 1 WHERE id = 5;
		ALTER DOMAIN knots ADD CONSTRAINT fast CHECK (VALUE >= 0)`},
	{"publication's table", `DO $$ BEGIN EXECUTE format('ALTER PUBLICATION %I DROP TABLE ONLY t', pubname) FROM pg_publication; END $$;
		UPDATE t SET v = 'unseen' WHERE id = 6`},
	{"publication's table, put back", `DO $$ BEGIN EXECUTE format('ALTER PUBLICATION %I DROP TABLE ONLY t', pubname) FROM pg_publication;
		UPDATE t SET v = 'unseen too' WHERE id = 6;
		EXECUTE format('ALTER PUBLICATION %I ADD TABLE ONLY t', pubname) FROM pg_publication; END $$`},
	{"publication's operations", `DO $$ BEGIN EXECUTE format('ALTER PUBLICATION %I SET (publish = ''insert'')', pubname) FROM pg_publication;
		END $$; UPDATE t SET v = 'narrow' WHERE id = 7; DELETE FROM t WHERE id = 8;
		DO $$ BEGIN EXECUTE format('ALTER PUBLICATION %I SET (publish = ''insert, update, delete, truncate'')', pubname) FROM pg_publication; END $$`},
}

// TestThereAndBackOnPostgres: what was changed and changed back is noticed by the dump that takes the increment, which
// compares that table; and the chain restores.
func TestThereAndBackOnPostgres(t *testing.T) {
	t.Parallel()
	needServer(t)
	s, err := testserver.StartPostgres(ownFolder(t), "wal_level = logical", "max_slot_wal_keep_size = '64MB'")
	require.NoError(t, err)
	defer s.Close()
	query(t, s, "postgres", "CREATE DATABASE trapped")
	for _, sql := range []string{"CREATE TYPE stage AS ENUM ('low', 'high')", "CREATE TYPE berth AS (name text, depth numeric)",
		"CREATE DOMAIN knots AS numeric CONSTRAINT fast CHECK (VALUE >= 0)",
		"CREATE TABLE t (id int PRIMARY KEY, v text, w int NOT NULL, x int, s stage, b berth, k knots, CONSTRAINT soon UNIQUE (x))",
		"CREATE UNIQUE INDEX other ON t (w)", "CREATE TABLE beside (id int PRIMARY KEY, v int)",
		"CREATE TABLE given (id int PRIMARY KEY, n int GENERATED ALWAYS AS IDENTITY, v int)",
		"INSERT INTO t SELECT i, 'v', i, i, 'low', ROW('a', i)::berth, 1 FROM generate_series(1, 2000) i",
		"INSERT INTO beside SELECT i, i FROM generate_series(1, 50) i", "INSERT INTO given (id) SELECT generate_series(1, 50)"} {
		query(t, s, "trapped", sql)
	}
	x := trapped{t, t.TempDir(), s.URL("trapped")}
	change := func() { // what the log tells, beside it
		query(t, s, "trapped", "UPDATE beside SET v = v + 1 WHERE id < 9")
		query(t, s, "trapped", "UPDATE t SET v = v || '.' WHERE id BETWEEN 1500 AND 1505")
	}
	told := func(m manifest.Manifest, table string) manifest.Change {
		for _, of := range m.Payload.SQL.Tables {
			if of.Name == table {
				return of.Change
			}
		}
		return ""
	}
	x.dump("full")
	for _, c := range thereAndBack {
		change()
		query(t, s, "trapped", c.sql)
		m := x.dump("incremental")
		require.NotEqual(t, manifest.Logged, told(m, "t"), c.name)
		require.Equal(t, c.name != "publication's operations", told(m, "beside") == manifest.Logged, "%s: those are of all tables", c.name)
		change()
		require.Equal(t, manifest.Logged, told(x.fromLog(), "t"), "after "+c.name)
	}
	for _, sql := range []string{"ANALYZE", "VACUUM", "CREATE INDEX ON t (v)", "GRANT SELECT ON t TO public"} {
		change()
		query(t, s, "trapped", sql)
		require.Equal(t, manifest.Logged, told(x.fromLog(), "t"), sql+" is no reason to compare")
	}
	query(t, s, "trapped", "UPDATE given SET v = 1 WHERE id = 2; UPDATE given SET n = DEFAULT WHERE id = 3")
	require.NotEqual(t, manifest.Logged, told(x.fromLog(), "given"), "no statement could write that column")
	run(t, x.dir, -1, "drill", "adhoc/trapped", "--from", "keep", "--to", s.URL(""))
	require.NotContains(t, run(t, x.dir, -1, "list", "--from", "keep").stdout, "failed")

	// A slot that the server gave up is replaced at once, and said once.
	for range 4 {
		query(t, s, "trapped", "CREATE TABLE IF NOT EXISTS wide (v text); INSERT INTO wide SELECT repeat(md5(i::text), 9) FROM generate_series(1, 120000) i")
		query(t, s, "trapped", "SELECT pg_switch_wal()")
	}
	query(t, s, "trapped", "CHECKPOINT")
	require.Equal(t, "lost", query(t, s, "trapped", "SELECT wal_status FROM pg_replication_slots WHERE slot_type = 'logical'"))
	query(t, s, "trapped", "DROP TABLE wide") // reading it first would write log (of hints), and too much of it
	x.compared("there is a new one now")
	change()
	x.fromLog()
}

// TestAnotherLogOfPostgres: a log that is not the one that it seems to be is doubted, with a warning, and what changed is
// compared: two databases that swapped names, and a server whose files were put back from an older copy.
func TestAnotherLogOfPostgres(t *testing.T) {
	t.Parallel()
	needServer(t)
	s, err := testserver.StartPostgres(ownFolder(t), "wal_level = logical", "max_slot_wal_keep_size = '1GB'")
	require.NoError(t, err)
	defer s.Close()
	query(t, s, "postgres", "CREATE DATABASE north")
	query(t, s, "north", "CREATE TABLE t (id int PRIMARY KEY, v text)")
	query(t, s, "north", "INSERT INTO t SELECT i, 'north' FROM generate_series(1, 500) i")
	dir := t.TempDir()
	url := strings.TrimSuffix(s.URL("x"), "x")
	dump := func(database, kind string) *outcome {
		args := []string{"dump", "--from", url + database, "--to", "keep", "--kind", kind}
		if kind == "full" {
			args = append(args, "--new-baseline")
		}
		o := run(t, dir, -1, args...)
		x := trapped{t: t}
		for _, m := range manifestsIn(t, filepath.Join(dir, "keep")) {
			x.last(&m)
		}
		return o
	}
	proven := func(database string) {
		t.Helper()
		dump(database, "full") // closes the chain, whose end has the fingerprints that it read
		o := run(t, dir, -1, "drill", "adhoc/"+database, "--from", "keep", "--to", url)
		require.Contains(t, o.stdout, "proven", o.stderr)
	}
	dump("north", "full")
	query(t, s, "postgres", "CREATE DATABASE south TEMPLATE north") // with the publication, and every OID inside
	dump("south", "full")
	for _, database := range []string{"north", "south"} {
		query(t, s, database, "UPDATE t SET v = '"+database+" itself' WHERE id = 1")
		require.NotContains(t, dump(database, "incremental").stderr, "compar")
	}
	query(t, s, "postgres", "ALTER DATABASE north RENAME TO aside")
	query(t, s, "postgres", "ALTER DATABASE south RENAME TO north")
	query(t, s, "postgres", "ALTER DATABASE aside RENAME TO south")
	for _, database := range []string{"north", "south"} {
		o := dump(database, "incremental")
		require.Contains(t, o.stderr, "is another one than it was")
		require.Equal(t, 3, o.code)
		proven(database)
	}

	// The server's files are put back, and its log grows past the old place on the same timeline.
	query(t, s, "north", "CHECKPOINT")
	require.NoError(t, s.Stop("fast"))
	sh(t, s.Folder, "cp -a data older")
	require.NoError(t, s.Start())
	query(t, s, "north", "UPDATE t SET v = 'lost with the disk' WHERE id > 400")
	dump("north", "incremental")
	require.NoError(t, s.Stop("fast"))
	sh(t, s.Folder, "rm -rf data && mv older data")
	require.NoError(t, s.Start())
	query(t, s, "north", "UPDATE t SET v = 'after' WHERE id < 20")
	query(t, s, "north", "CREATE TABLE wide AS SELECT repeat(md5(i::text), 9) v FROM generate_series(1, 20000) i")
	query(t, s, "north", "SELECT pg_switch_wal()")
	query(t, s, "north", "DROP TABLE wide")
	o := dump("north", "incremental")
	require.Contains(t, o.stderr, "does not have the mark")
	require.Equal(t, 3, o.code)
	proven("north")
}
