package test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// TestRestoreOptionsOfPostgres: others are sent away, owners become others, roles come along, and what is restored refuses
// changes.
func TestRestoreOptionsOfPostgres(t *testing.T) {
	t.Parallel()
	needServer(t)
	s, err := testserver.StartPostgres(ownFolder(t))
	require.NoError(t, err)
	defer s.Close()
	other, err := testserver.StartPostgres(ownFolder(t))
	require.NoError(t, err)
	defer other.Close()
	query(t, s, "postgres", `CREATE ROLE harbour; CREATE ROLE "Odd Clerk" LOGIN; CREATE ROLE guest; GRANT harbour TO "Odd Clerk"`)
	query(t, s, "postgres", "CREATE DATABASE owned OWNER harbour")
	query(t, s, "owned", `CREATE TABLE berth (id int PRIMARY KEY, clerk text); INSERT INTO berth VALUES (1, 'TO harbour');
		ALTER TABLE berth OWNER TO harbour; GRANT SELECT, UPDATE (clerk) ON berth TO "Odd Clerk" WITH GRANT OPTION;
		SET SESSION AUTHORIZATION "Odd Clerk"; GRANT SELECT ON berth TO guest; RESET SESSION AUTHORIZATION;
		ALTER TABLE berth ENABLE ROW LEVEL SECURITY; CREATE POLICY mine ON berth TO harbour USING (clerk = 'harbour');
		ALTER DEFAULT PRIVILEGES FOR ROLE harbour GRANT SELECT ON TABLES TO guest`)
	dir := t.TempDir()
	run(t, dir, -1, "dump", "--from", s.URL(""), "--to", "keep")
	restore := []string{"restore", "adhoc/owned", "--from", "keep", "--to", other.URL("")}
	require.Contains(t, run(t, dir, 1, restore...).stderr, "roles that the target lacks")
	require.Contains(t, run(t, dir, 2, append(restore, "--owner", "nobody=x", "--with-roles")...).stderr, "belongs to nobody")
	require.Contains(t, run(t, dir, 2, append(restore, "--owner", "harbour")...).stderr, "OLD=NEW")

	// Another owner, and the other roles as they were.
	query(t, other, "postgres", `CREATE ROLE captain`)
	o := run(t, dir, -1, append(restore, "--owner", "harbour=captain", "--with-roles", "--read-only")...)
	require.Contains(t, o.stderr, "made, as the dump of the server has them")
	owners := func(database string) string {
		return query(t, other, database, `SELECT string_agg(x, ' ' ORDER BY x) FROM (
			SELECT 'table ' || relowner::regrole || ' ' || relacl::text x FROM pg_class WHERE relname = 'berth'
			UNION SELECT 'policy ' || polroles::regrole[]::text FROM pg_policy
			UNION SELECT 'default ' || defaclrole::regrole FROM pg_default_acl
			UNION SELECT 'database ' || datdba::regrole FROM pg_database WHERE datname = current_database()) x`)
	}
	got := owners("owned")
	require.Contains(t, got, "database captain")
	require.Contains(t, got, "default captain")
	require.Contains(t, got, "policy {captain}")
	require.Contains(t, got, "table captain")
	require.NotContains(t, got, "harbour")
	require.Contains(t, got, `guest=r/\"Odd Clerk\"`)
	require.Equal(t, "1|TO harbour", query(t, other, "owned", "SELECT * FROM berth"), "what is data stays")
	c, err := other.Connect(context.Background(), "owned")
	require.NoError(t, err)
	defer c.Close(context.Background())
	_, err = c.Exec(context.Background(), "INSERT INTO berth VALUES (2)")
	require.ErrorContains(t, err, "read-only transaction")

	// Somebody is in the database that is to be replaced.
	again := append(restore, "--replace", "--owner", "harbour=captain", "--with-roles")
	require.Regexp(t, "sessions? uses? the database", run(t, dir, 1, again...).stderr)
	require.Contains(t, run(t, dir, 2, append(restore, "--disconnect")...).stderr, "goes with --replace")
	o = run(t, dir, -1, append(again, "--disconnect")...)
	require.Contains(t, o.stderr, "owned_before_")
	require.Error(t, c.Ping(context.Background()), "it was sent away")
	query(t, other, "owned", "INSERT INTO berth VALUES (2)")
	aside := query(t, other, "postgres", "SELECT datname FROM pg_database WHERE datname LIKE 'owned\\_%'")
	require.Equal(t, "1", query(t, other, aside, "SELECT count(*) FROM berth"), "the old one lets others in")
}

// TestRestoreOptionsOfMySQL: the same of MySQL and MariaDB, as far as they have it.
func TestRestoreOptionsOfMySQL(t *testing.T) {
	for name, start := range map[string]func(string, ...string) (*testserver.MySQL, error){"mariadb": testserver.StartMariaDB,
		"mysql": testserver.StartMySQL} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			needMariaDB(t)
			if name == "mysql" && noMySQL != nil {
				t.Skip(noMySQL)
			}
			m, err := start(ownFolder(t))
			require.NoError(t, err)
			defer m.Close()
			for _, sql := range []string{"CREATE USER harbour@localhost", "CREATE USER captain@localhost", "CREATE DATABASE owned"} {
				queryMaria(t, m, "", sql)
			}
			for _, sql := range []string{"CREATE TABLE berth (id int PRIMARY KEY, note text)",
				"INSERT INTO berth VALUES (1, 'DEFINER=`harbour`@`localhost`')", "GRANT SELECT ON owned.* TO harbour@localhost",
				"CREATE DEFINER = harbour@localhost VIEW seen AS SELECT id FROM berth",
				"CREATE DEFINER = harbour@localhost FUNCTION one() RETURNS int DETERMINISTIC RETURN 1"} {
				queryMaria(t, m, "owned", sql)
			}
			dir := t.TempDir()
			run(t, dir, -1, "dump", "--from", m.URL("owned"), "--to", "keep")
			run(t, dir, -1, "restore", "adhoc/owned", "--from", "keep", "--to", m.URL(""), "--as", "mapped", "--owner",
				"harbour@localhost=captain@localhost")
			definers := "SELECT definer FROM information_schema.views WHERE table_schema = 'mapped' UNION SELECT definer FROM " +
				"information_schema.routines WHERE routine_schema = 'mapped'"
			require.Equal(t, "captain@localhost", strings.TrimSpace(queryMaria(t, m, "", definers)))
			require.Contains(t, queryMaria(t, m, "mapped", "SELECT note FROM berth"), "harbour")

			again := []string{"restore", "adhoc/owned", "--from", "keep", "--to", m.URL(""), "--replace", "--disconnect"}
			held := holdMySQL(t, m, "owned")
			run(t, dir, -1, again...)
			require.Error(t, held(), "it was sent away")
			if name == "mariadb" {
				require.Contains(t, run(t, dir, 2, append(again, "--read-only")...).stderr, "MariaDB has no databases")
				return
			}
			run(t, dir, -1, append(again, "--read-only")...)
			_, err = m.Ask(context.Background(), "owned", "INSERT INTO berth VALUES (2, '')")
			require.ErrorContains(t, err, "read only")
		})
	}
}

// holdMySQL has a session in a database, and asks it again.
func holdMySQL(t *testing.T, m *testserver.MySQL, database string) func() error {
	t.Helper()
	failed := make(chan error, 1)
	go func() {
		_, err := m.Ask(context.Background(), database, "SELECT sleep(30)")
		failed <- err
	}()
	time.Sleep(500 * time.Millisecond)
	return func() error {
		select {
		case err := <-failed:
			return err
		case <-time.After(20 * time.Second):
			return nil
		}
	}
}

// TestRestoredFilesThatRefuseChanges: a file is left so that nobody writes to it.
func TestRestoredFilesThatRefuseChanges(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	sh(t, dir, "sqlite3 app.db 'CREATE TABLE t (id INTEGER PRIMARY KEY)'")
	run(t, dir, -1, "dump", "--from", "./app.db", "--to", "keep")
	run(t, dir, 0, "restore", "adhoc/app.db", "--from", "keep", "--to", dir, "--as", "frozen.db", "--read-only")
	st, err := os.Stat(filepath.Join(dir, "frozen.db"))
	require.NoError(t, err)
	require.Zero(t, st.Mode().Perm()&0o222)
	require.Contains(t, run(t, dir, 2, "restore", "adhoc/app.db", "--from", "keep", "--to", dir, "--as", "x.db", "--owner",
		"a=b").stderr, "nothing of what is restored there has an owner")
}

// TestSalvage: of a damaged dump comes back what is intact, into a database that says that it is not all; what is lost is
// named, and it never counts as proven.
func TestSalvage(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	sh(t, dir, "sqlite3 app.db \"CREATE TABLE a (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO a SELECT value, hex(randomblob(20)) FROM "+
		"generate_series(1, 9000); CREATE TABLE b (id INTEGER PRIMARY KEY, a REFERENCES a); INSERT INTO b SELECT value, value FROM "+
		"generate_series(1, 50); CREATE TABLE c (id INTEGER PRIMARY KEY); INSERT INTO c VALUES (1)\"")
	paths := []string{}
	for n := range 3 {
		kind := []string{"full", "incremental", "incremental"}[n]
		o := run(t, dir, -1, "dump", "--from", "./app.db", "--to", "keep", "--kind", kind, "--new-baseline="+
			map[bool]string{true: "true", false: "false"}[n == 0])
		paths = append(paths, lines(o.stdout)[0])
		sh(t, dir, "sqlite3 app.db 'INSERT INTO c SELECT max(id) + 1 FROM c; DELETE FROM b WHERE id = (SELECT max(id) FROM b)'")
	}
	restore := []string{"restore", "adhoc/app.db", "--from", "keep", "--to", dir, "--salvage"}
	require.Contains(t, run(t, dir, 2, restore...).stderr, "nothing of the dump")
	require.Contains(t, run(t, dir, 2, append(restore, "--replace")...).stderr, "makes a new database")
	ask := func(sql string) string { return strings.TrimSpace(sh(t, dir, "sqlite3 app_incomplete.db '"+sql+"'")) }
	spoil := func(pattern string) func() {
		found, err := filepath.Glob(pattern)
		require.NoError(t, err)
		require.NotEmpty(t, found, pattern)
		text, err := os.ReadFile(found[0])
		require.NoError(t, err)
		bad := append([]byte{}, text...)
		bad[len(bad)/2] ^= 1
		require.NoError(t, os.WriteFile(found[0], bad, 0o600))
		return func() { require.NoError(t, os.WriteFile(found[0], text, 0o600)) }
	}
	gone := func() { require.NoError(t, os.Remove(filepath.Join(dir, "app_incomplete.db"))) }

	mend := spoil(filepath.Join(paths[2], "*/c/part-*"))
	run(t, dir, 1, restore[:len(restore)-1]...)
	o := run(t, dir, 3, restore...)
	require.Contains(t, o.stderr, "all that changed after ")
	require.Contains(t, o.stderr, "part-0001.sql.zst is damaged")
	require.Equal(t, "9000|49|2", ask("SELECT (SELECT count(*) FROM a), (SELECT count(*) FROM b), (SELECT max(id) FROM c)"))
	gone()
	mend()

	mend = spoil(filepath.Join(paths[0], "20-data/a/part-*"))
	o = run(t, dir, 3, restore...)
	require.Contains(t, o.stderr, "of the table a 0 of 9,000 rows came back")
	require.Contains(t, o.stderr, "the full under it is damaged")
	require.Equal(t, "0|50|1", ask("SELECT (SELECT count(*) FROM a), (SELECT count(*) FROM b), (SELECT max(id) FROM c)"))
	require.NotContains(t, run(t, dir, 0, "list", "--from", "keep", "--all").stdout, " proven ")
	gone()
	mend()

	spoil(filepath.Join(paths[0], "10-schema.sql.zst"))
	require.Contains(t, run(t, dir, 1, restore...).stderr, "without it nothing can be made of the dump")
	require.NoFileExists(t, filepath.Join(dir, "app_incomplete.db"))
}
