package test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// TestAStalledServerIsNotWaitedForForEver: it holds the dump, its locks and the job's lease.
func TestAStalledServerIsNotWaitedForForEver(t *testing.T) {
	m := needMariaDB(t)
	w := newWire(t, m)
	dir := t.TempDir()
	config := fmt.Sprintf("[source.s]\nengine = \"mysql\"\nserver = \"127.0.0.1:%d\"\nuser = %q\n[keep.k]\nfolder = "+
		"\"keep\"\n[job.j]\nsource = \"s\"\nkeep = \"k\"\ndatabases = [\"bookings\"]\nserver = false\nlock_wait = \"1 s\"\n"+
		"silence = \"1 s\"\n", w.port, testserver.Admin)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), []byte(config), 0o600))
	run(t, dir, 0, "keep", "create", "k")
	for _, at := range []string{"FROM `posting`", "LOCK TABLES", "SHOW CREATE TABLE"} {
		w.hear(func(_ int, query string) {
			if strings.Contains(query, at) || at == "LOCK TABLES" && strings.Contains(query, "CONSISTENT SNAPSHOT") {
				w.stalled.Store(true)
			}
		})
		require.Contains(t, run(t, dir, 1, "dump", "j").stderr, "the server has said nothing for", at)
		w.hear(nil)
		w.stalled.Store(false)
	}
	quiet(t, onMariaDB(t, m))
	run(t, dir, -1, "dump", "j")
}

// TestNobodyElseIsLocked: while the readers of a dump begin, those who read, and those who
// write to other tables, go on; and so they do while somebody's long query runs.
func TestNobodyElseIsLocked(t *testing.T) {
	for _, p := range everyServer(t)[1:] {
		t.Run(p.product, func(t *testing.T) {
			m := p.server.(*testserver.MySQL)
			freshMaria(t, m, "dumped", "other")
			queryMaria(t, m, "", "CREATE DATABASE other")
			queryMaria(t, m, "dumped", "CREATE TABLE t (id int PRIMARY KEY); INSERT INTO t VALUES (1)")
			queryMaria(t, m, "other", "CREATE TABLE o (id int PRIMARY KEY); INSERT INTO o VALUES (1)")
			db := m.Open("other")
			defer db.Close()
			held, err := db.Conn(context.Background())
			require.NoError(t, err)
			defer held.Close()
			_, err = held.ExecContext(context.Background(),
				"START TRANSACTION; INSERT INTO o VALUES (50); SELECT * FROM dumped.t")
			require.NoError(t, err)
			w := newWire(t, m)
			asked := 0
			w.hear(func(_ int, query string) {
				require.NotContains(t, query, "FLUSH TABLES")
				if strings.Contains(query, "CONSISTENT SNAPSHOT") { // in the middle of it
					queryMaria(t, m, "other", "INSERT INTO o VALUES ("+strconv.Itoa(100+asked)+")")
					require.Equal(t, "1", queryMaria(t, m, "dumped", "SELECT id FROM t"))
					asked++
				}
			})
			dir := t.TempDir()
			run(t, dir, -1, "dump", "--from", w.url(m.URL("dumped")), "--to", "keep", "--job", "j")
			require.Positive(t, asked)
		})
	}
}

// TestThePositionIsTheMomentsInMySQL: what the server's own log has written to a table up to
// the position of a dump is what the dump holds of it, under load on this table and on others.
func TestThePositionIsTheMomentsInMySQL(t *testing.T) {
	if noMySQL != nil {
		t.Skip("no MySQL: ", noMySQL)
	}
	m := mysql
	freshMaria(t, m, "moving", "moved")
	queryMaria(t, m, "", "FLUSH BINARY LOGS")
	queryMaria(t, m, "moving",
		"CREATE TABLE n (id int PRIMARY KEY, v bigint); INSERT INTO n VALUES (1, 0); CREATE TABLE x (v int)")
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	done := make(chan error, 2)
	queryMaria(t, m, "", "CREATE TABLE roster.beside (v int)")
	defer queryMaria(t, m, "", "DROP TABLE roster.beside")
	for _, sql := range []string{"UPDATE moving.n SET v = v + 1", "INSERT INTO roster.beside VALUES (1)"} {
		go func() {
			db := m.Open("")
			defer db.Close()
			var err error
			for ctx.Err() == nil && err == nil {
				_, err = db.Exec(sql)
				time.Sleep(time.Millisecond)
			}
			done <- err
		}()
	}
	type found struct {
		value  string
		offset int64
	}
	var dumps []found
	file, dir := "", t.TempDir()
	for range 5 {
		path := lines(run(t, dir, -1, "dump", "--from", m.URL("moving"), "--to", "keep").stdout)[0]
		run(t, dir, 0, "restore", path, "--to", m.URL(""), "--as", "moved")
		at := result(t, dir, 0, "show",
			path)["result"].([]any)[0].(map[string]any)["manifest"].(map[string]any)["to"].(map[string]any)
		require.Contains(t, []string{"", file}, file, "one file is enough here")
		file = at["file"].(string)
		dumps = append(dumps, found{queryMaria(t, m, "moved", "SELECT v FROM n"), int64(at["offset"].(float64))})
		queryMaria(t, m, "", "DROP DATABASE moved")
	}
	stop()
	require.NoError(t, <-done)
	require.NoError(t, <-done)
	var changes []int64 // where in the log the table's changes end
	for _, event := range lines(queryMaria(t, m, "", "SHOW BINLOG EVENTS IN '"+file+"'")) {
		fields := strings.Split(event, "|")
		if len(fields) < 6 || fields[2] != "Table_map" || !strings.Contains(fields[5], "(moving.n)") {
			continue // of others, or a line of a statement's text
		}
		end, err := strconv.ParseInt(fields[4], 10, 64)
		require.NoError(t, err)
		changes = append(changes, end)
	}
	for _, d := range dumps {
		count := -1 // the first row is none
		for _, end := range changes {
			if end <= d.offset {
				count++
			}
		}
		require.Equal(t, d.value, strconv.Itoa(count))
	}
}

// TestWhatAUserMayNotSee: a server shows nothing of it, as if there were nothing.
func TestWhatAUserMayNotSee(t *testing.T) {
	for _, p := range everyServer(t)[1:] {
		t.Run(p.product, func(t *testing.T) {
			m := p.server.(*testserver.MySQL)
			freshMaria(t, m, "hidden")
			queryMaria(t, m, "hidden",
				"CREATE TABLE t (id int PRIMARY KEY); CREATE PROCEDURE p() SELECT 1; CREATE TRIGGER g "+
					"BEFORE INSERT ON t FOR EACH ROW SET @x = 1")
			queryMaria(t, m, "", "DROP USER IF EXISTS peeper; CREATE USER peeper; GRANT SELECT, SHOW VIEW, LOCK TABLES ON hidden.* TO peeper; "+
				"GRANT SELECT ON mysql.* TO peeper") // so it sees the rights of others, which are not its own
			defer queryMaria(t, m, "", "DROP USER peeper")
			url := strings.Replace(m.URL("hidden"), testserver.Admin, "peeper", 1)
			dir := t.TempDir()
			require.Contains(t, run(t, dir, 1, "dump", "--from", url, "--to", "keep").stderr,
				"this user may not see the triggers, events of hidden")
			queryMaria(t, m, "", "REVOKE SELECT ON mysql.* FROM peeper")
			require.Contains(t, run(t, dir, 1, "dump", "--from", url, "--to", "keep").stderr,
				"this user may not see the triggers, events, functions and procedures of hidden")
			// What 'grants' prints is enough, on both products.
			queryMaria(t, m, "", "DROP USER peeper")
			sql := run(t, dir, 0, "grants", "--from", url).stdout
			queryMaria(t, m, "", strings.ReplaceAll(strings.ReplaceAll(sql, "'localhost'", "'%'"), " IDENTIFIED BY '…'",
				""))
			o := run(t, dir, -1, "dump", "--from", url, "--to", "keep")
			require.NotContains(t, o.stderr, "may not")
			require.Regexp(t, `"objects":\{[^}]*"procedure":1[^}]*"trigger":1`, run(t, dir, 0, "show", "--json",
				lines(o.stdout)[0]).stdout)
		})
	}
}

// TestRowsThatWouldTakeTooMuchMemory are refused by name, or come with a word of what to do.
func TestRowsThatWouldTakeTooMuchMemory(t *testing.T) {
	m := needMariaDB(t)
	freshMaria(t, m, "wide", "wide2")
	queryMaria(t, m, "", "SET GLOBAL max_allowed_packet = 67108864")
	defer queryMaria(t, m, "", "SET GLOBAL max_allowed_packet = 16777216")
	queryMaria(t, m, "wide", "CREATE TABLE t (b longblob); INSERT INTO t VALUES (repeat('x', 12000000))")
	queryMaria(t, m, "wide", "UPDATE t SET b = concat(b, b)")
	dir := t.TempDir()
	path := lines(run(t, dir, -1, "dump", "--from", m.URL("wide"), "--to", "keep").stdout)[0]
	queryMaria(t, m, "", "SET GLOBAL local_infile = 0")
	defer queryMaria(t, m, "", "SET GLOBAL local_infile = 1")
	require.Contains(t, run(t, dir, 1, "drill", path, "--to", m.URL("")).stderr, "SET GLOBAL local_infile = 1")
	queryMaria(t, m, "wide", "UPDATE t SET b = concat(b, 'xxxxxxxxxx', left(b, 3000000))")
	require.Contains(t, run(t, dir, 1, "dump", "--from", m.URL("wide"), "--to", "keep").stderr,
		"a row of `t` has 25 MiB, and the table has no primary key")
}

// TestAClockThatWentBack: the newest dump is not the newest any more, and somebody must know.
func TestAClockThatWentBack(t *testing.T) {
	m := needMariaDB(t)
	dir := t.TempDir()
	run(t, dir, -1, "dump", "--from", m.URL("roster"), "--to", "keep")
	moment := result(t, dir, 0, "show", "adhoc", "--from",
		"keep")["result"].([]any)[0].(map[string]any)["manifest"].(map[string]any)
	require.NotContains(t, run(t, dir, -1, "dump", "--from", m.URL("roster"), "--to", "keep").stderr, "clock")
	queryMaria(t, m, "", "SET GLOBAL init_connect = 'SET timestamp = 1000000000'")
	queryMaria(t, m, "", "CREATE OR REPLACE USER slow; GRANT SELECT, SHOW VIEW, TRIGGER, EVENT, LOCK TABLES ON *.* TO slow")
	defer queryMaria(t, m, "", "SET GLOBAL init_connect = ''; DROP USER slow")
	o := run(t, dir, -1, "dump", "--from", strings.Replace(m.URL("roster"), testserver.Admin, "slow", 1), "--to",
		"keep")
	require.Regexp(t, "the server's clock is [0-9]+ .* behind the newest dump of this job", o.stderr)
	require.NotEmpty(t, moment["moment"])
}

// TestSettingsThatChangeTables: MySQL can add a key to each table, or refuse those without.
func TestSettingsThatChangeTables(t *testing.T) {
	if noMySQL != nil {
		t.Skip("no MySQL: ", noMySQL)
	}
	m := mysql
	freshMaria(t, m, "plain", "plain2")
	queryMaria(t, m, "plain", "CREATE TABLE t (a int); INSERT INTO t VALUES (5), (5)")
	queryMaria(t, m, "", "SET GLOBAL sql_require_primary_key = 1; SET GLOBAL sql_generate_invisible_primary_key = 1; "+
		"SET GLOBAL show_gipk_in_create_table_and_information_schema = 0; SET GLOBAL sql_safe_updates = 1")
	defer queryMaria(t, m, "",
		"SET GLOBAL sql_require_primary_key = 0; SET GLOBAL sql_generate_invisible_primary_key = 0; "+
			"SET GLOBAL show_gipk_in_create_table_and_information_schema = 1; SET GLOBAL sql_safe_updates = 0")
	dir := t.TempDir()
	path := lines(run(t, dir, -1, "dump", "--from", m.URL("plain"), "--to", "keep").stdout)[0]
	require.Contains(t, run(t, dir, 0, "drill", path, "--to", m.URL("")).stdout, "proven")
	run(t, dir, 0, "restore", path, "--to", m.URL(""), "--as", "plain2")
	require.Equal(t, "1", queryMaria(t, m, "",
		"SET show_gipk_in_create_table_and_information_schema = 1; SELECT count(*) FROM "+
			"information_schema.columns WHERE table_schema = 'plain2'"))
	queryMaria(t, m, "plain", "CREATE TABLE keyed (a int); INSERT INTO keyed VALUES (7)")
	path = lines(run(t, dir, -1, "dump", "--from", m.URL("plain"), "--to", "keep").stdout)[0]
	require.Contains(t, run(t, dir, 0, "show", path, "--json").stdout, "my_row_id",
		"a hidden key is dumped like others")

	queryMaria(t, m, "", "CREATE USER IF NOT EXISTS small; GRANT ALL ON *.* TO small; REVOKE SESSION_VARIABLES_ADMIN, "+
		"SYSTEM_VARIABLES_ADMIN, SUPER ON *.* FROM small")
	defer queryMaria(t, m, "", "DROP USER small")
	require.Contains(t, run(t, dir, 1, "drill", path, "--to", strings.Replace(m.URL(""), testserver.Admin, "small",
		1)).stderr,
		"this user may not turn it off for its session")
}

// TestNamesByHand: no name of a database breaks the lines of a README.
func TestNamesByHand(t *testing.T) {
	for _, p := range everyServer(t)[1:] {
		t.Run(p.product, func(t *testing.T) {
			m := p.server.(*testserver.MySQL)
			const name = "-x`y; DROP DATABASE bystander; 'z' $HOME"
			freshMaria(t, m, name, name+"_restored")
			freshMaria(t, m, "bystander")
			queryMaria(t, m, name, "CREATE TABLE t (a int PRIMARY KEY); INSERT INTO t VALUES (1)")
			dir := t.TempDir()
			path := lines(run(t, dir, -1, "dump", "--from", m.URL(""), "--database", name, "--to", "keep").stdout)[0]
			client := strings.Join(m.Client(), " ") + " "
			byHand(t, path, strings.NewReplacer("client='mariadb ", "client='"+client, "client='mysql ", "client='"+client))
			require.Equal(t, "1", queryMaria(t, m, name+"_restored", "SELECT a FROM t"))
			require.Equal(t, "bystander", queryMaria(t, m, "", "SHOW DATABASES LIKE 'bystander'"))
		})
	}
}

// TestCertificatesThatNobodyChecks: what looks like a check is one, or is refused.
func TestCertificatesThatNobodyChecks(t *testing.T) {
	dir := t.TempDir()
	for _, scheme := range []string{"mysql", "postgres"} {
		require.Contains(t, run(t, dir, 2, "survey", "--from", scheme+"://ann@127.0.0.1:1/?ca=/etc/ca.pem").stderr,
			"nothing would be checked with it")
	}
}

// TestDatabasesThatCannotBeSeen: a server does not list what a user has no right on; a dump of every
// database says that there may be more.
func TestDatabasesThatCannotBeSeen(t *testing.T) {
	for _, p := range everyServer(t)[1:] {
		t.Run(p.product, func(t *testing.T) {
			m := p.server.(*testserver.MySQL)
			freshMaria(t, m, "seen")
			queryMaria(t, m, "", "DROP USER IF EXISTS squinter; CREATE USER squinter; GRANT ALL ON seen.* TO squinter; "+
				"GRANT SELECT ON mysql.* TO squinter; GRANT PROCESS ON *.* TO squinter")
			defer queryMaria(t, m, "", "DROP USER squinter")
			dir := t.TempDir()
			from := strings.Replace(m.URL(""), testserver.Admin, "squinter", 1)
			o := run(t, dir, 3, "dump", "--from", from, "--to", "keep")
			require.Contains(t, o.stderr, "this user may not see all databases of the server")
			require.NotContains(t, run(t, dir, -1, "dump", "--from", from+"seen", "--to", "keep").stderr, "may not see all")
			require.NotContains(t, run(t, dir, -1, "dump", "--from", m.URL(""), "--to", "./all").stderr, "may not see all")
		})
	}
}
