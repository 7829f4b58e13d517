package test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// TestPostgresStandbyAsSource: a standby is dumped; from version 16 on its log is followed, with a publication that was
// made on the server that it follows.
func TestPostgresStandbyAsSource(t *testing.T) {
	t.Parallel()
	needServer(t)
	first, err := testserver.StartPostgres(ownFolder(t), "wal_level = logical", "max_slot_wal_keep_size = '1GB'")
	require.NoError(t, err)
	defer first.Close()
	query(t, first, "postgres", "CREATE DATABASE trapped")
	query(t, first, "trapped", "CREATE TABLE t (id int PRIMARY KEY, v int)")
	query(t, first, "trapped", "INSERT INTO t SELECT i, i FROM generate_series(1, 500) i")
	standby, err := first.StartStandby(ownFolder(t))
	require.NoError(t, err)
	defer standby.Close()
	change := func(sql string) {
		query(t, first, "trapped", sql)
		at := query(t, first, "trapped", "SELECT pg_current_wal_lsn()")
		require.Eventually(t, func() bool {
			return query(t, standby, "trapped", "SELECT pg_last_wal_replay_lsn() >= '"+at+"'::pg_lsn") == "t"
		}, time.Minute, 50*time.Millisecond)
	}
	change("ANALYZE t")
	x := trapped{t, t.TempDir(), standby.URL("trapped")}
	x.dump("full")
	change("UPDATE t SET v = 2 WHERE id = 1")
	if major := query(t, first, "trapped", "SELECT current_setting('server_version_num')::int / 10000"); major < "16" {
		x.compared("has no slots before version 16")
		run(t, x.dir, -1, "drill", "adhoc/trapped", "--from", "keep", "--to", first.URL(""))
		return
	}
	said := run(t, x.dir, -1, "dump", "--from", x.url, "--to", "keep", "--kind", "incremental").stderr
	_, sql, found := strings.Cut(said, "'CREATE PUBLICATION ")
	require.True(t, found, said)
	sql, _, _ = strings.Cut(sql, "'")
	change("CREATE PUBLICATION " + sql)

	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	go func() { // what the server that it follows does by itself every 15 s
		for ctx.Err() == nil {
			first.Script(ctx, "", "SELECT pg_log_standby_snapshot()")
			time.Sleep(100 * time.Millisecond)
		}
	}()
	x.dump("incremental") // makes the slot
	change("UPDATE t SET v = 3 WHERE id = 1")
	change("DELETE FROM t WHERE id = 2")
	x.fromLog()
	change("CREATE TABLE other (id int PRIMARY KEY)")
	change("INSERT INTO other VALUES (1)")
	m := x.fromLog()
	for _, table := range m.Payload.SQL.Tables {
		require.Equal(t, table.Name == "other", strings.Contains(table.NoLog, "it is new"), table.NoLog)
	}
	change("INSERT INTO other VALUES (2)")
	for _, table := range x.fromLog().Payload.SQL.Tables {
		require.Equal(t, table.Name == "other", strings.Contains(table.NoLog, "does not hold it"), table.NoLog)
	}
	run(t, x.dir, -1, "drill", "adhoc/trapped", "--from", "keep", "--to", first.URL(""))
	o := run(t, x.dir, 0, "slots", "--from", x.url)
	require.Contains(t, o.stdout, "trapped")
	run(t, x.dir, 0, "slots", "--from", x.url, "--remove", query(t, standby, "trapped", "SELECT slot_name FROM pg_replication_slots"))
	require.Equal(t, "0", query(t, standby, "trapped", "SELECT count(*) FROM pg_replication_slots"))
}
