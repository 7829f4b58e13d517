package test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/manifest"
	"grainkeep/internal/testserver"
)

// trapped is a chain that is followed, and what each of its increments says.
type trapped struct {
	t        *testing.T
	dir, url string
}

// dump takes a dump, and gives its manifest.
func (x trapped) dump(kind string) manifest.Manifest {
	x.t.Helper()
	args := []string{"dump", "--from", x.url, "--to", "keep", "--kind", kind}
	if kind == "full" {
		args = append(args, "--new-baseline")
	}
	o := run(x.t, x.dir, -1, args...)
	path := lines(o.stdout)[len(lines(o.stdout))-1]
	for _, m := range manifestsIn(x.t, filepath.Join(x.dir, "keep")) {
		if strings.Contains(path, m.Moment.UTC().Format("20060102T150405Z")+"-"+string(m.Kind)) && m.Closes == "" {
			x.last(&m)
			return m
		}
	}
	require.Fail(x.t, "there is no manifest", path)
	return manifest.Manifest{}
}

// last waits for the next second: names of folders have seconds.
func (x trapped) last(m *manifest.Manifest) {
	time.Sleep(time.Until(m.Moment.Truncate(time.Second).Add(1010 * time.Millisecond)))
}

// logTold: every increment of a chain is from the log, of all its tables but some, and with the fingerprints of those
// whose rows the log has whole.
func logTold(t *testing.T, dir string, but []string, whole ...string) {
	t.Helper()
	for _, m := range manifestsIn(t, filepath.Join(dir, "keep")) {
		if m.Kind != manifest.Incremental {
			continue
		}
		sql := m.Payload.SQL
		require.Equal(t, manifest.ByLog, sql.Found, sql.NoLog)
		for _, table := range sql.Tables {
			require.Equal(t, slices.Contains(but, table.Name), table.NoLog != "", "%s: %s", table.Name, table.NoLog)
			if slices.Contains(whole, table.Name) {
				require.NotEmpty(t, table.Sum, table.Name)
			}
		}
	}
}

// warned takes an increment that ends in a warning.
func (x trapped) warned(pattern string) {
	x.t.Helper()
	require.Regexp(x.t, pattern, run(x.t, x.dir, 3, "dump", "--from", x.url, "--to", "keep", "--kind", "incremental").stderr)
	list := manifestsIn(x.t, filepath.Join(x.dir, "keep"))
	for i := range list {
		x.last(&list[i])
	}
}

// fromLog takes an increment that the log tells.
func (x trapped) fromLog() manifest.Manifest {
	x.t.Helper()
	m := x.dump("incremental")
	require.Equal(x.t, manifest.ByLog, m.Payload.SQL.Found, m.Payload.SQL.NoLog)
	return m
}

// compared takes an increment that the log cannot tell, and says why; the next one is from the log again.
func (x trapped) compared(why string) {
	x.t.Helper()
	m := x.dump("incremental")
	require.Equal(x.t, manifest.ByComparison, m.Payload.SQL.Found)
	require.Contains(x.t, m.Payload.SQL.NoLog, why)
}

// TestTrapsOfPostgresLog: what makes a log lie is noticed, and compared.
func TestTrapsOfPostgresLog(t *testing.T) {
	t.Parallel()
	needServer(t)
	s, err := testserver.StartPostgres(ownFolder(t), "wal_level = logical", "max_slot_wal_keep_size = '1GB'",
		"max_prepared_transactions = 5")
	require.NoError(t, err)
	defer s.Close()
	query(t, s, "postgres", "CREATE DATABASE trapped")
	for _, sql := range []string{"CREATE TABLE t (id int PRIMARY KEY, v int)", "CREATE TABLE bare (v int)",
		"INSERT INTO t SELECT i, i FROM generate_series(1, 500) i", "INSERT INTO bare VALUES (1)",
		"CREATE TABLE late (id int PRIMARY KEY DEFERRABLE)",
		"INSERT INTO late VALUES (1)"} {
		query(t, s, "trapped", sql)
	}
	x := trapped{t, t.TempDir(), s.URL("trapped")}
	x.dump("full")
	query(t, s, "trapped", "UPDATE bare SET v = 2; UPDATE late SET id = 2") // would fail if they were published
	query(t, s, "trapped", "UPDATE t SET v = 2 WHERE id = 1")
	x.fromLog()

	slot := query(t, s, "trapped", "SELECT slot_name FROM pg_replication_slots")
	query(t, s, "trapped", "UPDATE t SET v = 3 WHERE id = 1")
	query(t, s, "trapped", "SELECT pg_replication_slot_advance('"+slot+"', pg_current_wal_lsn())")
	x.compared("stands further than the chain")
	x.fromLog()
	query(t, s, "trapped", "UPDATE t SET v = 4 WHERE id = 1")
	query(t, s, "trapped", "SELECT pg_drop_replication_slot('"+slot+"')")
	x.compared("there was no slot")
	x.fromLog()

	address := strings.TrimPrefix(strings.TrimSuffix(s.URL(""), "/"), "postgres://harbourmaster@")
	require.NoError(t, os.WriteFile(filepath.Join(x.dir, "grainkeep.toml"),
		[]byte("[source.s]\nengine = \"postgres\"\nserver = \""+address+
			"\"\nuser = \"harbourmaster\"\n[keep.k]\nfolder = \"keep\"\n[job.waits]\nsource = \"s\"\nkeep = \"k\"\ndatabases "+
			"= [\"trapped\"]\n"+
			"full = \"02:30\"\nincremental = \"each 15 min\"\nchanges = \"log\"\nlock_wait = \"2 s\"\nlog_limit = "+
			"\"64 MiB\"\n"), 0o600))
	run(t, x.dir, -1, "dump", "waits", "--kind", "full", "--new-baseline")

	// Somebody writes, and does not end.
	c, err := s.Connect(context.Background(), "trapped")
	require.NoError(t, err)
	defer c.Close(context.Background())
	_, err = c.Exec(context.Background(), "BEGIN; UPDATE t SET v = 5 WHERE id = 2")
	require.NoError(t, err)
	o := run(t, x.dir, -1, "dump", "waits", "--kind", "incremental")
	require.Contains(t, o.stderr, "a slot waits for every transaction that writes, and process ")
	_, err = c.Exec(context.Background(), "PREPARE TRANSACTION 'half'")
	require.NoError(t, err)
	query(t, s, "trapped", "COMMIT PREPARED 'half'")
	o = run(t, x.dir, -1, "dump", "waits", "--kind", "incremental") // its base stands at no place
	require.Contains(t, o.stderr, "does not say where in the log it stands")
	query(t, s, "trapped", "UPDATE t SET v = 6 WHERE id = 2")
	run(t, x.dir, -1, "dump", "waits", "--kind", "incremental")
	require.Contains(t, run(t, x.dir, 0, "find", "waits/trapped").stdout, "public.t")

	// What is held back is shown, and removed by name.
	o = run(t, x.dir, 0, "slots", "s")
	require.Regexp(t, `grainkeep_[0-9a-f]{12}_\d+ +trapped +waits `, o.stdout)
	require.Contains(t, o.stdout, "none here")
	run(t, x.dir, 0, "slots", "s", "--remove", slot)
	require.Equal(t, "1|1", query(t, s, "trapped", "SELECT (SELECT count(*) FROM pg_replication_slots), (SELECT "+
		"count(*) FROM pg_publication)"))
	o = run(t, x.dir, 2, "slots", "s", "--remove", "of_somebody")
	require.Contains(t, o.stderr, "no slot of this program")
	run(t, x.dir, -1, "drill", "waits/trapped", "--to", "s")

	// More than the job allows goes when it is told to, and what a slot leaves behind is found.
	require.Contains(t, run(t, x.dir, -1, "status").stderr, "s holds back of its log: ")
	query(t, s, "trapped", "SELECT pg_switch_wal()")
	query(t, s, "trapped", "CREATE TABLE wide AS SELECT repeat('x', 100) v FROM generate_series(1, 600000)")
	require.Contains(t, run(t, x.dir, -1, "status").stderr, "more than the job's log_limit")
	require.Contains(t, run(t, x.dir, 0, "slots", "s").stdout, "64.0 MiB")
	require.Contains(t, run(t, x.dir, -1, "survey", "waits").stdout, "of the log for trapped")
	require.Contains(t, run(t, x.dir, 3, "slots", "s", "--trim").stderr, "the job's next dump of changes compares")
	require.Contains(t, run(t, x.dir, 0, "slots", "s").stderr, "no slot")
	o = run(t, x.dir, -1, "dump", "waits", "--kind", "incremental")
	require.Contains(t, o.stderr, "it is told of only from now on", "the publication went with the slot")
	slot = query(t, s, "trapped", "SELECT slot_name FROM pg_replication_slots")
	query(t, s, "trapped", "SELECT pg_drop_replication_slot('"+slot+"')")
	require.Contains(t, run(t, x.dir, 0, "slots", "s").stdout, "only the publication is here")
	run(t, x.dir, 0, "slots", "s", "--remove", slot)
	require.Equal(t, "0", query(t, s, "trapped", "SELECT count(*) FROM pg_publication"))
}

// TestTrapsOfMariaDBLog: the same.
func TestTrapsOfMariaDBLog(t *testing.T) {
	t.Parallel()
	needMariaDB(t)
	m, err := testserver.StartMariaDB(ownFolder(t), "--binlog-format=ROW", "--server-id=7")
	require.NoError(t, err)
	defer m.Close()
	for _, sql := range []string{"CREATE DATABASE trapped", "CREATE TABLE trapped.t (id int PRIMARY KEY, v int)",
		"INSERT INTO trapped.t WITH RECURSIVE c(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM c WHERE i < 500) SELECT i, i " +
			"FROM c"} {
		queryMaria(t, m, "", sql)
	}
	x := trapped{t, t.TempDir(), m.URL("trapped")}
	x.dump("full")
	change := func(sql string) { queryMaria(t, m, "trapped", sql) }
	change("UPDATE t SET v = 2 WHERE id = 1")
	x.fromLog()
	for _, trap := range []struct{ sql, why string }{
		{"FLUSH LOGS; UPDATE t SET v = 3 WHERE id = 1; FLUSH LOGS; DO sleep(2); PURGE BINARY LOGS BEFORE '2037-01-01'",
			"does not have that part of its log any more"},
		{"RESET MASTER; UPDATE t SET v = 4 WHERE id = 1", ""},
		{"SET GLOBAL binlog_format = 'MIXED'; SET binlog_format = 'STATEMENT'; UPDATE t SET v = 5 WHERE id = 2; SET " +
			"GLOBAL binlog_format = 'ROW'", ""},
	} {
		change(trap.sql)
		got := x.dump("incremental").Payload.SQL
		require.Contains(t, got.NoLog, trap.why)
		require.NotEqual(t, manifest.Logged, got.Tables[0].Change, trap.sql)
		change("UPDATE t SET v = v + 1 WHERE id = 9")
		require.Equal(t, manifest.Logged, x.fromLog().Payload.SQL.Tables[0].Change)
	}
	run(t, x.dir, -1, "drill", "adhoc/trapped", "--from", "keep", "--to", m.URL(""))

	// A session that does not log is noticed by the dump that takes the increment.
	change("SET sql_log_bin = 0; UPDATE t SET v = 99 WHERE id = 3")
	x.warned("the server's log does not tell all that happened to `t`")
	require.NotContains(t, run(t, x.dir, -1, "drill", "adhoc/trapped", "--from", "keep", "--to", m.URL("")).stdout, "other values")

	// A session whose time is far ahead cuts off what is behind it: that is said.
	change("SET timestamp = 2000000000; UPDATE t SET v = 44 WHERE id = 4")
	x.warned("one transaction was committed at a time that was still to come")

	// In a table that is too large to be read in each increment, at the latest by the next full.
	change("INSERT INTO t SELECT seq, 1 FROM seq_501_to_30000")
	run(t, x.dir, -1, "dump", "--from", x.url, "--to", "keep", "--kind", "full", "--new-baseline")
	change("UPDATE t SET v = v + 1 WHERE id = 9; SET sql_log_bin = 0; UPDATE t SET v = 99 WHERE id = 29000")
	x.fromLog()
	o := run(t, x.dir, 3, "dump", "--from", x.url, "--to", "keep", "--kind", "full", "--new-baseline")
	require.Contains(t, o.stderr, "what the server's log told since the last full is not what the tables hold: `t`")
	require.Equal(t, 2, strings.Count(run(t, x.dir, 0, "list", "--all", "--from", "keep").stdout, "failed an audit"))
}

// TestLogGoesOnAtAReplica: a chain goes on from the log of a replica that has taken over, by the ids of transactions;
// one that lacks some of them is compared.
func TestLogGoesOnAtAReplica(t *testing.T) {
	t.Parallel()
	t.Run("MariaDB", func(t *testing.T) {
		t.Parallel()
		needMariaDB(t)
		first, err := testserver.StartMariaDB(ownFolder(t), "--log-slave-updates", "--server-id=7")
		require.NoError(t, err)
		defer first.Close()
		second, err := testserver.StartMariaDB(ownFolder(t), "--log-slave-updates", "--server-id=8")
		require.NoError(t, err)
		defer second.Close()
		queryMaria(t, first, "", "RESET MASTER")
		queryMaria(t, second, "", fmt.Sprintf("RESET MASTER; CHANGE MASTER TO MASTER_HOST = '127.0.0.1', MASTER_PORT = %d, "+
			"MASTER_USER = '%s', MASTER_USE_GTID = slave_pos; START SLAVE", first.Port, testserver.Admin))
		takesOver(t, first, second, "STOP SLAVE")
	})
	t.Run("MySQL", func(t *testing.T) {
		t.Parallel()
		if noMySQL != nil {
			t.Skip("no MySQL: ", noMySQL)
		}
		first, err := testserver.StartMySQL(ownFolder(t), "--gtid-mode=ON", "--enforce-gtid-consistency=ON", "--server-id=7")
		require.NoError(t, err)
		defer first.Close()
		second, err := testserver.StartMySQL(ownFolder(t), "--gtid-mode=ON", "--enforce-gtid-consistency=ON", "--server-id=8")
		require.NoError(t, err)
		defer second.Close()
		queryMaria(t, first, "", "RESET BINARY LOGS AND GTIDS")
		queryMaria(t, second, "", fmt.Sprintf("RESET BINARY LOGS AND GTIDS; CHANGE REPLICATION SOURCE TO SOURCE_HOST = "+
			"'127.0.0.1', SOURCE_PORT = %d, SOURCE_USER = '%s', SOURCE_AUTO_POSITION = 1, GET_SOURCE_PUBLIC_KEY = 1; "+
			"START REPLICA", first.Port, testserver.Admin))
		takesOver(t, first, second, "STOP REPLICA")
	})
}

// takesOver follows a server, then its replica at the same address, then that replica once it has stopped to follow.
func takesOver(t *testing.T, first, second *testserver.MySQL, stop string) {
	for _, sql := range []string{"CREATE DATABASE trapped", "CREATE TABLE trapped.t (id int PRIMARY KEY, v int)",
		"INSERT INTO trapped.t VALUES (1, 1), (2, 2), (3, 3)"} {
		queryMaria(t, first, "", sql)
	}
	w := newWire(t, first)
	x := trapped{t, t.TempDir(), w.url(first.URL("trapped"))}
	x.dump("full")
	queryMaria(t, first, "trapped", "UPDATE t SET v = 10 WHERE id = 1")
	x.fromLog()
	queryMaria(t, first, "trapped", "UPDATE t SET v = 20 WHERE id = 2")
	require.Eventually(t, func() bool {
		got, err := second.Ask(context.Background(), "trapped", "SELECT v FROM t WHERE id = 2")
		return err == nil && strings.TrimSpace(got) == "20"
	}, time.Minute, 100*time.Millisecond, "the replica does not follow")

	w.turn(second)
	require.Equal(t, manifest.Counts{Written: 1}, *x.fromLog().Payload.SQL.Tables[0].Counts)
	queryMaria(t, second, "", stop)
	queryMaria(t, second, "trapped", "DELETE FROM t WHERE id = 3")
	require.Equal(t, manifest.Counts{Removed: 1}, *x.fromLog().Payload.SQL.Tables[0].Counts)
	run(t, x.dir, -1, "drill", "adhoc/trapped", "--from", "keep", "--to", second.URL(""))
	require.Equal(t, []string{"1|10", "2|20"}, restoredRows(t, x, second))

	w.turn(first) // it has not had the last transaction
	x.compared("")
	require.Equal(t, []string{"1|10", "2|20", "3|3"}, restoredRows(t, x, first))
}

// restored restores the newest dump, as another database.
func restored(t *testing.T, x trapped, to *testserver.MySQL) {
	queryMaria(t, to, "", "DROP DATABASE IF EXISTS back")
	run(t, x.dir, -1, "restore", "adhoc/trapped", "--from", "keep", "--to", to.URL(""), "--as", "back")
}

// restoredRows restores the newest dump, and reads its table.
func restoredRows(t *testing.T, x trapped, to *testserver.MySQL) []string {
	restored(t, x, to)
	got, err := to.Ask(context.Background(), "back", "SELECT id, v FROM t ORDER BY id")
	require.NoError(t, err)
	return strings.Fields(got)
}

// TestMomentOfAWholeRun: every database of a job comes back as it was at one place in the server's log, also where the
// times in it step back.
func TestMomentOfAWholeRun(t *testing.T) {
	t.Parallel()
	needMariaDB(t)
	m, err := testserver.StartMariaDB(ownFolder(t), "--binlog-format=ROW", "--server-id=7")
	require.NoError(t, err)
	defer m.Close()
	queryMaria(t, m, "", "CREATE DATABASE trapped; CREATE DATABASE beside; CREATE TABLE trapped.t (id int PRIMARY KEY); "+
		"CREATE TABLE beside.t (id int PRIMARY KEY)")
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), []byte(fmt.Sprintf("timezone = \"UTC\"\n"+
		"[source.s]\nengine = \"mysql\"\nserver = \"127.0.0.1:%d\"\nuser = \"%s\"\n[keep.k]\nfolder = \"keep\"\n[job.both]\n"+
		"source = \"s\"\nkeep = \"k\"\ndatabases = [\"trapped\", \"beside\"]\nfull = \"02:30\"\nincremental = \"each 15 min\"\n",
		m.Port, testserver.Admin)), 0o600))
	run(t, dir, 0, "keep", "create", "k")
	run(t, dir, -1, "dump", "both", "--kind", "full", "--new-baseline")
	began, err := strconv.ParseInt(strings.TrimSpace(queryMaria(t, m, "", "SELECT UNIX_TIMESTAMP()")), 10, 64)
	require.NoError(t, err)
	for _, x := range []struct {
		table string
		id    int
		after int64
	}{{"trapped", 1, 1}, {"beside", 1, 1}, {"beside", 2, 3}, {"trapped", 2, 1}} {
		queryMaria(t, m, x.table, fmt.Sprintf("SET timestamp = %d; INSERT INTO t VALUES (%d)", began+x.after, x.id))
	}
	time.Sleep(time.Until(time.Unix(began+4, 0)))
	run(t, dir, -1, "dump", "both", "--kind", "incremental")
	o := run(t, dir, -1, "restore", "both", "--at", time.Unix(began+2, 0).UTC().Format("2006-01-02T15:04:05"), "--replace")
	require.Contains(t, o.stderr, "both/trapped")
	require.Equal(t, "1", strings.TrimSpace(queryMaria(t, m, "beside", "SELECT GROUP_CONCAT(id ORDER BY id) FROM t")))
	require.Equal(t, "1", strings.TrimSpace(queryMaria(t, m, "trapped", "SELECT GROUP_CONCAT(id ORDER BY id) FROM t")),
		"its second row came after what is not wanted in the other database")
}
