package test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/manifest"
	"grainkeep/internal/testserver"
)

// TestALogThatLacksSomething: what a server of MariaDB's kind did not log, lost, or lost the log of, is found by the dump
// that takes the increment.
func TestALogThatLacksSomething(t *testing.T) {
	needMariaDB(t)
	t.Run("MariaDB", func(t *testing.T) {
		t.Parallel()
		m, err := testserver.StartMariaDB(ownFolder(t), "--server-id=7")
		require.NoError(t, err)
		logLacks(t, m)
	})
	t.Run("MySQL", func(t *testing.T) {
		t.Parallel()
		if noMySQL != nil {
			t.Skip("no MySQL: ", noMySQL)
		}
		m, err := testserver.StartMySQL(ownFolder(t))
		require.NoError(t, err)
		logLacks(t, m)
	})
}

func logLacks(t *testing.T, m *testserver.MySQL) {
	defer m.Close()
	queryMaria(t, m, "", "CREATE DATABASE trapped")
	for _, sql := range []string{"CREATE TABLE t (id int PRIMARY KEY, v int)", "CREATE TABLE large (id int PRIMARY KEY, v int)",
		"SET SESSION cte_max_recursion_depth = 100000",
		"INSERT INTO t WITH RECURSIVE c(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM c WHERE i < 500) SELECT i, i FROM c",
		"INSERT INTO large SELECT a.id * 500 + b.id, 1 FROM t a JOIN t b WHERE a.id <= 60"} {
		if !m.Maria || !strings.HasPrefix(sql, "SET") {
			queryMaria(t, m, "trapped", sql)
		}
	}
	x := trapped{t, t.TempDir(), m.URL("trapped")}
	x.dump("full")
	facts := func(database string) string {
		got, err := m.Ask(context.Background(), database, "SELECT (SELECT sum(crc32(concat(id, ':', v))) FROM t), "+
			"(SELECT sum(crc32(concat(id, ':', v))) FROM large), (SELECT count(*) FROM large)")
		require.NoError(t, err)
		return got
	}
	right := func(how string) {
		t.Helper()
		want := facts("trapped")
		restored(t, x, m)
		require.Equal(t, want, facts("back"), how)
	}
	unlogged := func(n int) string {
		return fmt.Sprintf("UPDATE large SET v = v + %d WHERE id = 27000; UPDATE t SET v = v + %[1]d WHERE id = 400", n)
	}
	change := func() { queryMaria(t, m, "trapped", "UPDATE t SET v = v + 1 WHERE id = 9") }

	// A session that does not log, in a table that is too large to be read in each increment.
	change()
	queryMaria(t, m, "trapped", "SET sql_log_bin = 0; UPDATE large SET v = 99 WHERE id = 29000")
	x.warned("does not tell all that happened to `large`")
	right("a session that does not log")

	// A start without the log, and one with it again. An ordinary restart is looked at, and costs nothing else.
	require.NoError(t, m.Stop("fast"))
	require.NoError(t, m.Start())
	change()
	got := x.fromLog().Payload.SQL
	require.Equal(t, manifest.Logged, got.Tables[1].Change)
	require.NotEmpty(t, got.Tables[0].Sum)
	require.NoError(t, m.Stop("fast"))
	require.NoError(t, m.StartWith("--skip-log-bin"))
	queryMaria(t, m, "trapped", unlogged(5))
	require.NoError(t, m.Stop("fast"))
	require.NoError(t, m.Start())
	change()
	x.warned("does not tell all that happened to `large`")
	right("a start without the log")

	// A file of the log that is missing.
	queryMaria(t, m, "trapped", "FLUSH LOGS; UPDATE large SET v = 7 WHERE id = 3; FLUSH LOGS")
	change()
	require.NoError(t, m.Stop("fast"))
	missing(t, m)
	require.NoError(t, m.Start())
	x.warned("what is between them is missing|lacks transactions that the server had")
	right("a file that is missing")

	// Databases that are left out, as survey says too.
	for _, option := range []string{"--binlog-ignore-db=trapped", "--binlog-do-db=other"} {
		require.NoError(t, m.Stop("fast"))
		require.NoError(t, m.StartWith(option))
		queryMaria(t, m, "trapped", unlogged(1))
		x.compared("does not hold all that changes")
		require.Contains(t, run(t, x.dir, -1, "survey", "--from", x.url).stdout, "in some databases")
		right(option)
	}

	// A replica that does not log what it is told.
	require.NoError(t, m.Stop("fast"))
	require.NoError(t, m.StartWith(map[bool]string{true: "--log-slave-updates=0", false: "--log-replica-updates=OFF"}[m.Maria]))
	x.fromLog()
	queryMaria(t, m, "", map[bool]string{true: "CHANGE MASTER TO MASTER_HOST = '127.0.0.1', MASTER_PORT = 1",
		false: "CHANGE REPLICATION SOURCE TO SOURCE_HOST = '127.0.0.1', SOURCE_PORT = 1"}[m.Maria])
	queryMaria(t, m, "trapped", "SET sql_log_bin = 0; "+unlogged(2))
	x.compared("follows another one, whose changes it does not log")
	right("a replica that does not log")
}

// missing takes the last but one file out of a server's log, as if it had never been.
func missing(t *testing.T, m *testserver.MySQL) {
	indexes, err := filepath.Glob(filepath.Join(m.Folder, "data", "*bin*.index"))
	require.NoError(t, err)
	require.Len(t, indexes, 1)
	text, err := os.ReadFile(indexes[0])
	require.NoError(t, err)
	files := lines(string(text))
	gone := files[len(files)-2]
	require.NoError(t, os.Remove(filepath.Join(m.Folder, "data", filepath.Base(gone))))
	require.NoError(t, os.WriteFile(indexes[0], []byte(strings.Replace(string(text), gone+"\n", "", 1)), 0o666))
}
