package test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// withExtension skips where the server's packages lack an extension.
func withExtension(t *testing.T, s *testserver.Postgres, name string) {
	t.Helper()
	if query(t, s, "postgres", "SELECT count(*) FROM pg_available_extensions WHERE name = '"+name+"'") == "0" {
		t.Skip("the server's packages have no " + name)
	}
}

// TestPostgresGeography: an extension with tables, rules, triggers and rows of its own, and
// what somebody hung on them.
func TestPostgresGeography(t *testing.T) {
	s := needServer(t)
	withExtension(t, s, "postgis_topology")
	dropDatabases(t, s, "chart", "chart_again", "chart_restored")
	query(t, s, "postgres", "CREATE DATABASE chart")
	defer dropDatabases(t, s, "chart")
	query(t, s, "chart", "CREATE EXTENSION postgis; CREATE EXTENSION postgis_topology")
	query(t, s, "chart", `CREATE TABLE mark (id int PRIMARY KEY, at geometry(Point, 4326), area geography(Polygon));
		INSERT INTO mark VALUES (1, 'SRID=4326;POINT(-6.8 62.1)', 'POLYGON((0 0, 0 1, 1 1, 0 0))'); CREATE INDEX ON mark USING gist (at);
		INSERT INTO spatial_ref_sys (srid, auth_name, auth_srid, srtext, proj4text) VALUES (990001, 'ours', 1, 'x', '+proj=longlat');
		SELECT topology.CreateTopology('reef', 4326); CREATE VIEW near AS SELECT ST_AsText(at) AS t FROM mark;
		CREATE FUNCTION noted() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NEW; END';
		CREATE TRIGGER ours BEFORE INSERT ON spatial_ref_sys FOR EACH ROW EXECUTE FUNCTION noted();
		CREATE INDEX ours_too ON spatial_ref_sys (auth_srid); COMMENT ON TABLE spatial_ref_sys IS 'with ours'`)
	comesBack(t, s, "chart")
}

// TestPostgresScheduler: an extension that only one database of a server can have, with rows,
// a sequence, a policy and triggers. Elsewhere it cannot be drilled, which says nothing about
// the dump.
func TestPostgresScheduler(t *testing.T) {
	withExtension(t, needServer(t), "pg_cron")
	start := func() *testserver.Postgres {
		s, err := testserver.StartPostgres(ownFolder(t), "shared_preload_libraries = 'pg_cron'",
			"cron.database_name = 'jobs'",
			"cron.launch_active_jobs = off")
		require.NoError(t, err)
		t.Cleanup(func() { s.Close() })
		query(t, s, "postgres", "CREATE DATABASE jobs")
		return s
	}
	old, fresh := start(), start()
	query(t, old, "jobs", "CREATE EXTENSION pg_cron")
	query(t, old, "jobs",
		"SELECT cron.schedule('nightly', '30 2 * * *', 'VACUUM'); SELECT cron.schedule('tide', '* * * * *', "+
			"'SELECT 1'); SELECT cron.unschedule('nightly')")
	dir := t.TempDir()
	run(t, dir, -1, "dump", "--from", old.URL("jobs"), "--to", "keep")
	require.Contains(t, run(t, dir, 1, "drill", "adhoc", "--from", "keep", "--to", fresh.URL("")).stderr,
		"an extension can be in one database of this server only")
	require.Contains(t, run(t, dir, 1, "restore", "adhoc", "--from", "keep", "--to", fresh.URL(""), "--as",
		"other").stderr,
		"restore into it: --into NAME")
	run(t, dir, 0, "restore", "adhoc", "--from", "keep", "--to", fresh.URL(""), "--into", "jobs")
	require.Equal(t, "2|tide|harbourmaster", query(t, fresh, "jobs", "SELECT jobid, jobname, username FROM cron.job"))
	require.Equal(t, "3", query(t, fresh, "jobs", "SELECT cron.schedule('third', '* * * * *', 'SELECT 1')"))
}

// TestPostgresExtensionVersions: a version that the target lacks is no defect of the dump, and
// what is there is taken when that is asked for.
func TestPostgresExtensionVersions(t *testing.T) {
	s := needServer(t)
	dropDatabases(t, s, "versions", "versions2")
	query(t, s, "postgres", "CREATE DATABASE versions")
	defer dropDatabases(t, s, "versions", "versions2")
	query(t, s, "versions", "CREATE EXTENSION citext; CREATE TABLE t (a citext); INSERT INTO t VALUES ('x'); UPDATE "+
		"pg_extension SET extversion = '0.7' WHERE extname = 'citext'")
	dir := t.TempDir()
	run(t, dir, -1, "dump", "--from", s.URL("versions"), "--to", "keep")
	require.Contains(t, run(t, dir, 1, "drill", "adhoc", "--from", "keep", "--to", s.URL("")).stderr,
		"the server lacks a version of an extension")
	to := []string{"restore", "adhoc", "--from", "keep", "--to", s.URL(""), "--as", "versions2"}
	require.Contains(t, run(t, dir, 1, to...).stderr, "--any-extension-version")
	require.Contains(t, run(t, dir, 0, append(to, "--any-extension-version")...).stderr,
		"the extension citext came in the version that the target has")
}

// TestPostgresOptionsOfTheServerItself: what a minor release notes among the options of a table,
// a view or an index is not a user's to write.
func TestPostgresOptionsOfTheServerItself(t *testing.T) {
	s := needServer(t)
	dropDatabases(t, s, "noted", "noted2")
	query(t, s, "postgres", "CREATE DATABASE noted")
	defer dropDatabases(t, s, "noted", "noted2")
	query(t, s, "noted", "CREATE TABLE t (n int) WITH (fillfactor = 70); CREATE VIEW v WITH (security_barrier) AS SELECT * FROM t; "+
		"CREATE INDEX i ON t (n)")
	query(t, s, "noted", "SET allow_system_table_mods = on; UPDATE pg_class SET reloptions = reloptions || '{pg_noted=1}' WHERE "+
		"relname IN ('t', 'v', 'i')")
	dir := t.TempDir()
	path := lines(run(t, dir, -1, "dump", "--from", s.URL("noted"), "--to", "keep").stdout)[0]
	run(t, dir, 0, "restore", path, "--to", s.URL(""), "--as", "noted2")
	require.Equal(t, "{fillfactor=70}|{security_barrier=true}|", query(t, s, "noted2",
		"SELECT (SELECT reloptions FROM pg_class "+
			"WHERE relname = 't'), (SELECT reloptions FROM pg_class WHERE relname = 'v'), (SELECT reloptions FROM pg_class WHERE relname = 'i')"))
}
