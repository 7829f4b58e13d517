package test

import (
	"encoding/json"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/manifest"
	"grainkeep/internal/testserver"
)

// TestADifferentialAuditsTheLog: a differential reads all tables, so it knows whether the log told all; and the log goes on
// through it: any moment up to it can be restored, and from it on.
func TestADifferentialAuditsTheLog(t *testing.T) {
	t.Parallel()
	needServer(t)
	needMariaDB(t)
	m, err := testserver.StartMariaDB(ownFolder(t), "--server-id=7")
	require.NoError(t, err)
	defer m.Close()
	p, err := testserver.StartPostgres(ownFolder(t), "wal_level = logical", "max_slot_wal_keep_size = '1GB'")
	require.NoError(t, err)
	defer p.Close()
	for name, x := range map[string]struct {
		x   trapped
		run func(sql string) string
	}{
		"MariaDB":    {trapped{t, t.TempDir(), m.URL("trapped")}, func(sql string) string { return queryMaria(t, m, "trapped", sql) }},
		"PostgreSQL": {trapped{t, t.TempDir(), p.URL("trapped")}, func(sql string) string { return query(t, p, "trapped", sql) }},
	} {
		if name == "MariaDB" {
			queryMaria(t, m, "", "CREATE DATABASE trapped")
		} else {
			query(t, p, "postgres", "CREATE DATABASE trapped")
		}
		x.run("CREATE TABLE t (id int PRIMARY KEY, v int)")
		x.run("INSERT INTO t WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 500) SELECT a.i * 500 + b.i, 1 " +
			"FROM n a, n b WHERE a.i <= 60")
		x.run("CREATE TABLE loose (v int)") // without a key: the log does not tell of it
		x.run("INSERT INTO loose VALUES (1)")
		x.x.dump("full")
		x.run("UPDATE t SET v = 2 WHERE id = 501")
		x.x.fromLog()
		for _, v := range []string{"3", "4"} {
			x.run("UPDATE t SET v = " + v + " WHERE id = 501")
			x.run("UPDATE loose SET v = " + v)
		}
		require.Equal(t, manifest.Differential, x.x.dump("differential").Kind)
		require.Len(t, closingsIn(t, x.x.dir), 1, name)
		x.run("UPDATE t SET v = 5 WHERE id = 501")
		x.x.fromLog()

		// Every transaction is there, and the moment before one that lies between the last increment and the differential.
		var found struct {
			Result []struct{ Transaction, Position string }
		}
		require.NoError(t, json.Unmarshal([]byte(run(t, x.x.dir, 0, "find", "adhoc/trapped", "--from", "keep", "--table", "t",
			"--json").stdout), &found))
		require.Len(t, found.Result, 4, name)
		for i, want := range []string{"2", "3", "4", "5"} {
			o := run(t, x.x.dir, 0, "ask", "adhoc/trapped", "--from", "keep", "--at", found.Result[i].Transaction,
				"SELECT v FROM t WHERE id = 501")
			require.Equal(t, want, lines(o.stdout)[len(lines(o.stdout))-1], "%s: %s", name, o.stdout)
		}
		inside := []string{"adhoc/trapped", "--from", "keep", "--at", found.Result[1].Transaction}
		require.Contains(t, run(t, x.x.dir, 1, slices.Concat([]string{"ask"}, inside, []string{"SELECT v FROM loose"})...).stderr,
			"loose cannot be had at it")
		o := run(t, x.x.dir, -1, slices.Concat([]string{"compare"}, inside)...)
		require.Regexp(t, "Not told of [12] tables?.*loose", o.stderr)
	}

	// What a session did not log, in a table that is too large to be read each time.
	x := trapped{t, t.TempDir(), m.URL("trapped")}
	x.dump("full")
	change := "UPDATE t SET v = v + 1 WHERE id = 501"
	queryMaria(t, m, "trapped", change+"; SET sql_log_bin = 0; UPDATE t SET v = 99 WHERE id = 29000")
	x.fromLog()
	queryMaria(t, m, "trapped", change)
	require.Contains(t, run(t, x.dir, 3, "dump", "--from", x.url, "--to", "keep", "--kind", "differential").stderr,
		"what the server's log told since the last full is not what the tables hold: `t`")
	require.Equal(t, 2, strings.Count(run(t, x.dir, 0, "list", "--all", "--from", "keep").stdout, "failed an audit"))
	closing := closingsIn(t, x.dir)[0]
	o := run(t, x.dir, -1, "restore", closing.Base[:12], "--from", "keep", "--to", m.URL(""), "--as", "back")
	require.Contains(t, o.stderr, "failed an audit")
	run(t, x.dir, -1, "drill", closing.Base[:12], "--from", "keep", "--to", m.URL(""))
	require.Contains(t, run(t, x.dir, 0, "show", closing.Base[:12], "--from", "keep").stdout, "failed an audit",
		"a drill holds it against what the same log told")
	queryMaria(t, m, "trapped", change)
	x.last(&closing)
	x.fromLog()
	require.Equal(t, 2, strings.Count(run(t, x.dir, 0, "list", "--all", "--from", "keep").stdout, "failed an audit"))
}

// closingsIn are the dumps of a keep that close chains.
func closingsIn(t *testing.T, dir string) (list []manifest.Manifest) {
	for _, m := range manifestsIn(t, filepath.Join(dir, "keep")) {
		if m.Closes != "" {
			list = append(list, m)
		}
	}
	return list
}
