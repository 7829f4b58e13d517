package test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// TestRightsGoWithTheirDatabase: what users may do with single tables, columns and routines comes
// back with the database, whatever comes first, and under its name.
func TestRightsGoWithTheirDatabase(t *testing.T) {
	for _, p := range everyServer(t)[1:] {
		t.Run(p.product, func(t *testing.T) {
			m := p.server.(*testserver.MySQL)
			freshMaria(t, m, "shared", "shared_as")
			drop := func() { queryMaria(t, m, "", "DROP USER IF EXISTS deckhand; DROP ROLE IF EXISTS crew") }
			drop()
			defer drop()
			queryMaria(t, m, "shared",
				"CREATE USER deckhand; CREATE ROLE crew; CREATE TABLE t (a int, `b``` int); CREATE VIEW v AS "+
					"SELECT a FROM t; CREATE FUNCTION f() RETURNS int DETERMINISTIC RETURN 1; GRANT SELECT (a, `b```), INSERT ON t TO "+
					"deckhand WITH GRANT OPTION; GRANT SELECT ON v TO crew; GRANT EXECUTE ON FUNCTION f TO deckhand; "+
					"CREATE TABLE gone (a int); GRANT SELECT ON gone TO crew; DROP TABLE gone; GRANT DELETE ON shared.* TO crew")
			said := func() string {
				return queryMaria(t, m, "", "SHOW GRANTS FOR deckhand") + "\n" + queryMaria(t, m, "",
					"SHOW GRANTS FOR crew")
			}
			want := said()
			dir := t.TempDir()
			path := lines(run(t, dir, -1, "dump", "--from", m.URL("shared"), "--to", "keep", "--job", "j").stdout)[0]
			require.Contains(t, run(t, dir, 0, "drill", path, "--to", m.URL("")).stdout, "proven")
			require.NotContains(t, queryMaria(t, m, "", "SELECT db FROM mysql.tables_priv"), "grainkeep_")
			drop()
			queryMaria(t, m, "", "DROP DATABASE shared")
			require.Contains(t, run(t, dir, 1, "restore", path, "--to", m.URL("")).stderr,
				"the dump names roles that the target lacks: ")
			queryMaria(t, m, "", "CREATE USER deckhand; CREATE ROLE crew; GRANT DELETE ON shared.* TO crew")
			run(t, dir, 0, "restore", path, "--to", m.URL(""))
			require.NotContains(t, said(), "gone")
			queryMaria(t, m, "shared", "CREATE TABLE gone (a int); GRANT SELECT ON gone TO crew")
			require.ElementsMatch(t, lines(want), lines(said()))
			run(t, dir, 0, "restore", path, "--to", m.URL(""), "--as", "shared_as", "--owners", "mine")
			require.NotContains(t, said(), "shared_as")
		})
	}
}

// TestWhatADatabaseIsComesBackWithIt: owner, rights, limits and settings, also in the place of one that
// is moved aside; one that is there already keeps its own.
func TestWhatADatabaseIsComesBackWithIt(t *testing.T) {
	s := needServer(t)
	names := []string{"owned", "owned_into", "owned_other"}
	drop := func() {
		query(t, s, "postgres",
			"DO $$ BEGIN IF EXISTS (SELECT FROM pg_database WHERE datname = 'owned') THEN ALTER DATABASE owned "+
				"IS_TEMPLATE false; END IF; END $$")
		dropDatabases(t, s, names...)
		query(t, s, "postgres", `DROP ROLE IF EXISTS "pur%ser", lookout, helm`)
	}
	drop()
	defer drop()
	query(t, s, "postgres", `CREATE ROLE "pur%ser"; CREATE ROLE lookout; CREATE ROLE helm`)
	query(t, s, "postgres", `CREATE DATABASE owned OWNER "pur%ser" CONNECTION LIMIT 0 IS_TEMPLATE true`)
	query(t, s, "postgres", `REVOKE ALL ON DATABASE owned FROM PUBLIC; GRANT CONNECT ON DATABASE owned TO lookout WITH GRANT OPTION;
		SET SESSION AUTHORIZATION lookout; GRANT CONNECT ON DATABASE owned TO helm; RESET SESSION AUTHORIZATION;
		GRANT TEMP ON DATABASE owned TO "pur%ser"; ALTER DATABASE owned SET work_mem = '7MB';
		ALTER ROLE "pur%ser" IN DATABASE owned SET datestyle = 'German'`)
	said := func(name string) string {
		return query(t, s, "postgres",
			"SELECT datdba::regrole, datconnlimit, datistemplate, datacl, (SELECT string_agg(concat("+
				"setrole::regrole, setconfig), ',' ORDER BY setrole) FROM pg_db_role_setting WHERE setdatabase = d.oid) FROM "+
				"pg_database d WHERE datname = '"+name+"'")
	}
	want := said("owned")
	dir := t.TempDir()
	path := lines(run(t, dir, -1, "dump", "--from", s.URL("owned"), "--to", "keep", "--job", "j").stdout)[0]
	require.Contains(t, run(t, dir, 0, "drill", path, "--to", s.URL("")).stdout, "proven")
	query(t, s, "postgres", "ALTER DATABASE owned OWNER TO lookout; ALTER DATABASE owned CONNECTION LIMIT 5")
	run(t, dir, 0, "restore", path, "--to", s.URL(""), "--replace")
	require.Equal(t, want, said("owned"))
	aside := query(t, s, "postgres", "SELECT datname FROM pg_database WHERE starts_with(datname, 'owned_before')")
	query(t, s, "postgres", `ALTER DATABASE "`+aside+`" IS_TEMPLATE false`)
	query(t, s, "postgres", `DROP DATABASE "`+aside+`"`)

	query(t, s, "postgres", "CREATE DATABASE owned_into")
	into := query(t, s, "postgres", "SELECT datdba, datconnlimit, datacl FROM pg_database WHERE datname = 'owned_into'")
	run(t, dir, 0, "restore", path, "--to", s.URL(""), "--into", "owned_into")
	require.Equal(t, into, query(t, s, "postgres",
		"SELECT datdba, datconnlimit, datacl FROM pg_database WHERE datname = 'owned_into'"))
	run(t, dir, 0, "restore", path, "--to", s.URL(""), "--as", "owned_other", "--owners", "mine")
	require.Contains(t, said("owned_other"), testserver.Admin)
	query(t, s, "postgres", `ALTER DATABASE owned_other IS_TEMPLATE false`)
}

// TestViewsAcrossDatabases need each other's databases, in a circle: restored together they
// come back by themselves, and one alone without what needs the other, which is named.
func TestViewsAcrossDatabases(t *testing.T) {
	for _, p := range everyServer(t)[1:] {
		t.Run(p.product, func(t *testing.T) {
			m := p.server.(*testserver.MySQL)
			freshMaria(t, m, "port")
			freshMaria(t, m, "lee")
			queryMaria(t, m, "", "CREATE TABLE lee.t (a int); CREATE TABLE port.t (a int); CREATE VIEW port.v1 AS SELECT a FROM lee.t; "+
				"CREATE VIEW lee.v2 AS SELECT a FROM port.v1; CREATE VIEW port.v3 AS SELECT lee.a FROM lee.v2 AS lee; USE port; "+
				"CREATE VIEW v4 AS SELECT a FROM v3; CREATE VIEW v5 AS SELECT lee.a FROM t AS lee; INSERT INTO lee.t VALUES (7)")
			dir := t.TempDir()
			run(t, dir, -1, "dump", "--from", m.URL(""), "--database", "port", "--database", "lee", "--to", "keep",
				"--job", "j")
			gone := func() { queryMaria(t, m, "", "DROP DATABASE port; DROP DATABASE lee") }
			gone()
			o := run(t, dir, 0, "drill", "--from", "keep", "j", "--to", m.URL(""))
			require.Contains(t, o.stdout, "proven  j/port", "it is no fault of the dump that the other is not there")
			o = run(t, dir, 3, "restore", "--from", "keep", "j/port", "--to", m.URL(""))
			require.Contains(t, o.stderr, "the view `v1` is left out")
			require.NotContains(t, o.stderr, "v5")
			o = run(t, dir, 1, "restore", "--from", "keep", "j", "--to", m.URL(""))
			require.Contains(t, o.stderr, "the database port exists already")
			require.Empty(t, queryMaria(t, m, "", "SHOW DATABASES LIKE 'lee'"), "all are looked at before any is made")
			queryMaria(t, m, "", "DROP DATABASE port")
			run(t, dir, 0, "restore", "--from", "keep", "j", "--to", m.URL(""))
			require.Equal(t, "7", queryMaria(t, m, "port", "SELECT a FROM v4"))

			queryMaria(t, m, "", "DROP DATABASE lee")
			o = run(t, dir, 3, "dump", "--from", m.URL("port"), "--to", "keep", "--job", "broken")
			require.Contains(t, o.stderr, "the view v1 is broken on the server, and is dumped so")
			queryMaria(t, m, "", "CREATE DATABASE lee") // for the end of the test
		})
	}
}

// TestMySQLReferenceSystemsAndTypedJSON: a reference system comes with the database that needs it;
// JSON of SQL types is told of wherever it stands.
func TestMySQLReferenceSystemsAndTypedJSON(t *testing.T) {
	if noMySQL != nil {
		t.Skip("no MySQL: ", noMySQL)
	}
	freshMaria(t, mysql, "charted")
	const system = "SELECT * FROM information_schema.st_spatial_reference_systems WHERE srs_id = 990001"
	gone := func() {
		queryMaria(t, mysql, "", "DROP DATABASE IF EXISTS charted; DROP SPATIAL REFERENCE SYSTEM IF EXISTS 990001")
	}
	gone()
	defer func() {
		gone()
		queryMaria(t, mysql, "", "CREATE DATABASE charted") // for the end of the test
	}()
	queryMaria(t, mysql, "", `CREATE DATABASE charted; CREATE SPATIAL REFERENCE SYSTEM 990001 NAME 'our''s' ORGANIZATION 'tern'
		IDENTIFIED BY 7 DESCRIPTION 'of our chart' DEFINITION `+"'GEOGCS[\"ours\",DATUM[\"d\",SPHEROID[\"s\",6378137,298.2]],"+
		`PRIMEM["Greenwich",0],UNIT["degree",0.0174532],AXIS["Lat",NORTH],AXIS["Lon",EAST]]'`)
	queryMaria(t, mysql, "charted",
		"CREATE TABLE rocks (id int PRIMARY KEY, at point SRID 990001, more json); INSERT INTO rocks SELECT "+
			"id, ST_GeomFromText('POINT(1 2)', 990001), json_object('n', id, 's', 'x', 'f', 0.25e0) FROM bookings.booking WHERE id <= 1500; "+
			"UPDATE rocks SET more = json_object('at', now(), 'n', 1.50) WHERE id = 1400")
	want := queryMaria(t, mysql, "", system)
	dir := t.TempDir()
	o := run(t, dir, 3, "dump", "--from", mysql.URL("charted"), "--to", "keep", "--job", "j")
	require.Contains(t, o.stderr, "JSON in `rocks` (in 1 of its rows) holds exact decimals, dates or the like")
	gone()
	run(t, dir, 0, "restore", "--from", "keep", "j/charted", "--to", mysql.URL(""))
	require.Equal(t, want, queryMaria(t, mysql, "", system))
	require.Equal(t, "1500|990001", queryMaria(t, mysql, "charted", "SELECT count(*), max(ST_SRID(at)) FROM rocks"))
}
