package test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// The golden chains were written once, by the first version that takes dumps by comparison: of each engine a full, a
// differential and an incremental on top of it. GRAINKEEP_GOLDEN=chains makes them, where there are none yet.
const goldenChains = "testdata/golden/format-1-chains"

// goldenLog is a table of several ranges.
const goldenLog = "CREATE TABLE log (id int PRIMARY KEY, says varchar(200) NOT NULL); " +
	"INSERT INTO log WITH RECURSIVE c(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM c WHERE i < 900) " +
	"SELECT i, 'The ferry that has the number ' || i || ' of all that sail today has left the quay on time, says the " +
	"harbour master, and so will the next ones' FROM c"

// goldenDays are what happens between the dumps.
var goldenDays = []string{
	"UPDATE log SET says = 'late' WHERE id BETWEEN 300 AND 302; DELETE FROM log WHERE id > 880; " +
		"ALTER TABLE vessel ADD COLUMN flag int DEFAULT 7; CREATE TABLE quay (id int PRIMARY KEY); INSERT INTO quay VALUES (1)",
	"UPDATE log SET id = 5000 WHERE id = 1; DELETE FROM log WHERE id = 301; INSERT INTO quay VALUES (2); " +
		"CREATE VIEW late AS SELECT count(*) AS n FROM log WHERE says = 'late'",
}

const (
	goldenAsks = "SELECT count(*), sum(id), (SELECT n FROM late), (SELECT sum(id) FROM quay), (SELECT sum(flag) FROM vessel) FROM log"
	goldenEnd  = "879|392338|2|3|14"
)

func writeGoldenChains(t *testing.T) {
	require.NoDirExists(t, goldenChains, "a golden keep never changes")
	to, err := filepath.Abs(goldenChains)
	require.NoError(t, err)
	dir := t.TempDir()
	for _, p := range everyEngine(t) {
		p.need(t)
		if p.product == "mysql" {
			continue
		}
		if p.server == nil { // its path stands in the manifest
			p.folder = "/srv/ternskerry"
			require.NoError(t, os.MkdirAll(p.folder, 0o755))
			defer os.RemoveAll(p.folder)
		} else {
			p.drop("golden")
			p.run("", "CREATE DATABASE golden")
			defer p.drop("golden")
		}
		log := goldenLog
		if p.engine == "mysql" {
			log = "SET sql_mode = concat(@@sql_mode, ',PIPES_AS_CONCAT'); " + log
		}
		p.run("golden", goldenSQL[p.engine]+"; "+log)
		for i, kind := range []string{"full", "differential", "incremental"} {
			if i > 0 {
				p.run("golden", goldenDays[i-1])
			}
			run(t, dir, -1, "dump", "--from", p.url("golden"), "--to", to, "--job", p.engine, "--kind", kind, "--new-baseline="+
				map[bool]string{true: "true", false: "false"}[i == 0])
		}
		run(t, dir, 0, append([]string{"drill", p.engine + "/" + p.name("golden"), "--from", to}, p.scratch()...)...)
	}
}

// TestGoldenChains: a chain once written is readable for ever.
func TestGoldenChains(t *testing.T) {
	if os.Getenv("GRAINKEEP_GOLDEN") == "chains" {
		writeGoldenChains(t)
	}
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(filepath.Join(dir, "keep"), os.DirFS(goldenChains)))
	require.Len(t, result(t, dir, 0, "list", "--all", "--from", "keep")["result"].([]any), 9)
	run(t, dir, 0, "verify", "--from", "keep")
	for _, p := range everyEngine(t) {
		if p.product == "mysql" { // the keep's are of MariaDB
			continue
		}
		t.Run(p.product, func(t *testing.T) {
			p.need(t)
			name := p.engine + "/" + p.name("golden")
			run(t, dir, 0, append([]string{"drill", name, "--from", "keep"}, p.scratch()...)...)
			p.drop("golden_back")
			defer p.drop("golden_back")
			run(t, dir, 0, "restore", name, "--from", "keep", "--to", p.url(""), "--as", p.name("golden_back"), "--owners",
				"mine")
			require.Equal(t, goldenEnd, p.ask("golden_back", goldenAsks))
		})
	}
}
