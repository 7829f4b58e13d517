package test

import (
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// The golden keep of logs was written once, by the first version that reads them: of each server a full, an increment
// from its log, and the new full that closes the chain. GRAINKEEP_GOLDEN=log makes it, where there is none yet.
const goldenLogs = "testdata/golden/format-1-log"

// goldenHours are what is made, and what happens before the increment.
var goldenHours = []string{
	"CREATE TABLE berth (id int PRIMARY KEY, says varchar(60), depth decimal(6,2))",
	"CREATE TABLE boat (id int PRIMARY KEY, berth int, FOREIGN KEY (berth) REFERENCES berth (id) ON DELETE CASCADE)",
	"INSERT INTO berth VALUES (1, 'north ''quay''', 4.50), (2, 'south', 7.25), (3, NULL, 0)",
	"INSERT INTO boat VALUES (10, 1), (11, 1), (12, 2)",
	"UPDATE berth SET says = 'deep', depth = -9.75 WHERE id = 2", "DELETE FROM berth WHERE id = 1", // with its boats
	"INSERT INTO boat VALUES (13, 3), (14, 2)",
}

const (
	goldenLogAsks = "SELECT count(*), sum(b.id), (SELECT sum(id) FROM boat), (SELECT sum(depth) FROM berth), max(says) " +
		"FROM berth b"
	goldenLogEnd = "2|5|39|-9.75|deep"
)

func writeGoldenLogs(t *testing.T) {
	require.NoDirExists(t, goldenLogs, "a golden keep never changes")
	to, err := filepath.Abs(goldenLogs)
	require.NoError(t, err)
	p, err := testserver.StartPostgres(ownFolder(t), "wal_level = logical", "max_slot_wal_keep_size = '1GB'")
	require.NoError(t, err)
	defer p.Close()
	m, err := testserver.StartMariaDB(ownFolder(t), "--binlog-format=ROW")
	require.NoError(t, err)
	defer m.Close()
	query(t, p, "postgres", "CREATE DATABASE golden")
	queryMaria(t, m, "", "CREATE DATABASE golden")
	for job, from := range map[string]string{"postgres": p.URL("golden"), "mysql": m.URL("golden")} {
		do := func(list []string) {
			for _, sql := range list {
				if job == "postgres" {
					query(t, p, "golden", sql)
				} else {
					queryMaria(t, m, "golden", sql)
				}
			}
		}
		dump := func(args ...string) {
			run(t, t.TempDir(), -1, append([]string{"dump", "--from", from, "--to", to, "--job", job, "--kind"}, args...)...)
		}
		do(goldenHours[:4])
		dump("full", "--new-baseline")
		do(goldenHours[4:])
		dump("incremental")
		dump("full", "--new-baseline")
	}
}

// TestGoldenLogs: a chain that a log told is readable for ever, as are the moments inside it.
func TestGoldenLogs(t *testing.T) {
	if os.Getenv("GRAINKEEP_GOLDEN") == "log" {
		writeGoldenLogs(t)
	}
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(filepath.Join(dir, "keep"), os.DirFS(goldenLogs)))
	require.Len(t, result(t, dir, 0, "list", "--all", "--from", "keep")["result"].([]any), 8)
	run(t, dir, 0, "verify", "--from", "keep")
	for _, p := range everyEngine(t) {
		if p.server == nil || p.product == "mysql" { // the keep's are of PostgreSQL and MariaDB
			continue
		}
		t.Run(p.product, func(t *testing.T) {
			p.need(t)
			name := p.engine + "/golden"
			o := run(t, dir, 0, append([]string{"drill", name, "--from", "keep"}, p.scratch()...)...)
			require.Contains(t, o.stderr, "is drilled too, and must give the very rows")
			found := run(t, dir, 0, "find", name, "--from", "keep", "--text", "deep").stdout
			id := regexp.MustCompile(`Etc/UTC +(\S+)|UTC +(\S+)`).FindStringSubmatch(found)
			require.NotNil(t, id, found)
			for at, want := range map[string]string{id[1] + id[2]: "3|6|33|-5.25|north 'quay'",
				"before " + id[1] + id[2]: "3|6|33|11.75|south"} {
				p.drop("golden_back")
				run(t, dir, 0, "restore", name, "--from", "keep", "--at", at, "--to", p.url(""), "--as", p.name("golden_back"),
					"--owners", "mine")
				require.Equal(t, want, p.ask("golden_back", goldenLogAsks), at)
			}
			p.drop("golden_back")
			run(t, dir, 0, "restore", name, "--from", "keep", "--to", p.url(""), "--as", p.name("golden_back"), "--owners",
				"mine")
			require.Equal(t, goldenLogEnd, p.ask("golden_back", goldenLogAsks))
			p.drop("golden_back")
		})
	}
}
