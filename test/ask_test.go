package test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// asked is the answer of a question as the servers' clients would write it.
func asked(t *testing.T, dir string, args ...string) string {
	t.Helper()
	_, answer, _ := strings.Cut(run(t, dir, 0, append(append([]string{"ask"}, args...), "--as", "csv")...).stdout, "\n")
	return strings.ReplaceAll(strings.TrimSpace(answer), ",", "|")
}

// TestAskGolden: every golden chain answers without a server what its restore answers, at its end and inside.
func TestAskGolden(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for name, from := range map[string]string{"chains": goldenChains, "log": goldenLogs} {
		require.NoError(t, os.CopyFS(filepath.Join(dir, name), os.DirFS(from)))
	}
	for _, of := range []string{"sqlite/golden.db", "postgres/golden", "mysql/golden"} {
		question := goldenAsks
		if of != "sqlite/golden.db" { // the view is the server's
			question = strings.Replace(question, "SELECT n FROM late", "SELECT count(*) FROM log WHERE says = 'late'", 1)
			require.Contains(t, run(t, dir, 2, "ask", of, "--from", "chains", "SELECT * FROM late").stderr, "late is a view")
		}
		require.Equal(t, goldenEnd, asked(t, dir, of, "--from", "chains", question))
	}
	for _, of := range []string{"postgres/golden", "mysql/golden"} {
		found := run(t, dir, 0, "find", of, "--from", "log", "--text", "deep").stdout
		id := regexp.MustCompile(`Etc/UTC +(\S+)|UTC +(\S+)`).FindStringSubmatch(found)
		require.NotNil(t, id, found)
		for at, want := range map[string]string{id[1] + id[2]: "3|6|33|-5.25|north 'quay'", "before " + id[1] + id[2]: "3|6|33|11.75|south"} {
			require.Equal(t, want, asked(t, dir, of, "--from", "log", "--at", at, goldenLogAsks))
		}
		increments, err := filepath.Glob(filepath.Join(dir, "log", of, "*-incremental*"))
		require.NoError(t, err)
		for _, path := range increments { // what MariaDB's foreign keys do stands in no log
			require.Equal(t, goldenLogEnd, asked(t, dir, path, "--from", "log", goldenLogAsks), path)
		}
	}
}

// TestAskChain: whatever happened in a chain, questions are answered as the server answered at the moment of each dump.
func TestAskChain(t *testing.T) {
	t.Parallel()
	chainedServers(t, func(t *testing.T, name string, x chained) {
		kinds := map[string]string{"postgres": "paid numeric(8,2), yes boolean, raw bytea, seen timestamptz, doc jsonb",
			"mysql": "paid decimal(8,2), yes boolean, raw varbinary(9), seen timestamp NULL, doc json"}[name]
		x.sql("live", "CREATE TABLE guest (id int PRIMARY KEY, name varchar(40), "+kinds+")")
		x.sql("live", "CREATE TABLE note (at varchar(20), says text)") // without a key
		raw := map[string]string{"postgres": `'\x00ff'`, "mysql": "x'00ff'"}[name]
		for i := range 40 {
			x.sql("live", fmt.Sprintf("INSERT INTO guest VALUES (%d, 'O''Fell\t\\\\ é %d', %d.50, %v, %s, '2026-03-14 02:30:00', '{\"n\": [%d]}')",
				i, i, i, i%2 == 0, raw, i))
		}
		if name == "postgres" {
			x.sql("live", "CREATE TABLE part (id int PRIMARY KEY) PARTITION BY RANGE (id); CREATE TABLE part_low PARTITION OF part FOR VALUES FROM (0) TO "+
				"(5); CREATE TABLE part_high PARTITION OF part FOR VALUES FROM (5) TO (9); INSERT INTO part VALUES (1), (2), (7)")
		}
		x.configure(t, "")
		const question = "SELECT count(*), sum(id), sum(paid), sum(yes), max(length(name)), max(hex(raw)), min(strftime('%H', seen)), " +
			"sum(json_extract(doc, '$.n[0]')), (SELECT count(*) FROM note), (SELECT max(says) FROM note) FROM guest"
		onServer := strings.NewReplacer("strftime('%H', seen)", "to_char(seen AT TIME ZONE 'UTC', 'HH24')", "sum(yes)", "sum(yes::int)",
			"hex(raw)", "upper(encode(raw, 'hex'))", "sum(json_extract(doc, '$.n[0]'))", "sum((doc->'n'->>0)::int)").Replace(question)
		if name == "mysql" {
			onServer = "SET time_zone = '+00:00'; " + strings.Replace(question, "strftime('%H', seen)", "date_format(seen, '%H')", 1)
			onServer = strings.Replace(onServer, "length(", "char_length(", 1)
		}
		random := rand.New(rand.NewPCG(7, 9))
		for i, kind := range []string{"full", "incremental", "differential", "incremental", "incremental"} {
			args := []string{"dump", "nightly", "--kind", kind}
			if i == 0 {
				args = append(args, "--new-baseline")
			} else {
				n := random.IntN(30)
				for _, sql := range []string{fmt.Sprintf("UPDATE guest SET paid = paid + 1, name = 'late' WHERE id > %d", n),
					fmt.Sprintf("DELETE FROM guest WHERE id = %d", n), fmt.Sprintf("UPDATE guest SET id = id + 1000 WHERE id = %d", n+1),
					fmt.Sprintf("INSERT INTO note VALUES ('%d', 'said %d')", n, i)} {
					x.sql("live", sql)
				}
			}
			run(t, x.dir, -1, args...)
			want := strings.Split(strings.ReplaceAll(x.sql("live", onServer), "NULL", ""), "|")
			got := strings.Split(asked(t, x.dir, "nightly/live", question), "|")
			require.Len(t, got, len(want))
			for k := range want { // of 20.50 SQLite makes 20.5
				if n, err := strconv.ParseFloat(want[k], 64); err == nil && want[k] != "02" {
					want[k] = strconv.FormatFloat(n, 'f', -1, 64)
				}
				require.Equal(t, want[k], got[k], "%d, after a %s", k, kind)
			}
		}
		if name == "postgres" {
			require.Equal(t, "3|10", asked(t, x.dir, "nightly/live", "SELECT count(*), sum(id) FROM part"))
			require.Equal(t, "2", asked(t, x.dir, "nightly/live", "SELECT count(*) FROM public.part_low"))
		}
	})
}

// TestAsk: questions filter and choose as SQLite itself does, and what cannot be asked is said.
func TestAsk(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	sh(t, dir, `sqlite3 app.db "CREATE TABLE sail (id INTEGER PRIMARY KEY, port TEXT, free INT, load REAL); CREATE TABLE crew (sail INT, name TEXT);
		WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 3000) INSERT INTO sail SELECT i, CASE i % 4 WHEN 0 THEN NULL
		WHEN 1 THEN 'Tern''s Quay' ELSE 'Skerry' END, nullif(i % 7, 3), i / 8.0 FROM n; INSERT INTO sail VALUES (9001, 17, 'many', NULL);
		INSERT INTO crew SELECT id, 'C' || id FROM sail WHERE id % 3 = 0"`)
	run(t, dir, -1, "dump", "--from", "app.db", "--to", "keep")
	for _, question := range []string{
		"SELECT * FROM sail WHERE free = 4 AND port = 'Tern''s Quay' AND id > 2000 ORDER BY id", "SELECT count(*), sum(load) FROM sail WHERE NOT free = 4",
		"SELECT count(*) FROM sail WHERE port <> 'Skerry'", "SELECT count(*) FROM sail s WHERE s.free <= 2 OR s.id = 9001",
		"SELECT count(*) FROM sail WHERE free > 5 AND id BETWEEN 5 AND 500", "SELECT count(*) FROM sail", "SELECT count(*) FROM sail WHERE port = 17",
		"SELECT count(*), max(name) FROM sail JOIN crew ON sail = id WHERE free = 2", "SELECT rowid FROM sail WHERE id = 9001",
		"SELECT count(*) FROM sail WHERE free = 2 AND (port = 'Skerry' OR port IS NULL) GROUP BY port ORDER BY 1 LIMIT 1",
	} {
		require.Equal(t, strings.TrimSpace(sh(t, dir, "sqlite3 app.db \""+question+"\"")), asked(t, dir, "adhoc/app.db", "--from", "keep", question),
			question)
	}
	ask := func(code int, args ...string) *outcome {
		t.Helper()
		return run(t, dir, code, append([]string{"ask", "adhoc/app.db", "--from", "keep"}, args...)...)
	}
	require.Contains(t, ask(2, "SELECT * FROM ships").stderr, "the dump has crew, sail")
	for _, more := range []string{"DELETE FROM sail", "ATTACH 'x.db' AS x", "PRAGMA journal_mode", "SELECT 1; SELECT 2; DROP TABLE sail", "CREATE TABLE x (a)"} {
		require.Contains(t, ask(2, more).stderr, "the question", more)
	}
	require.Contains(t, ask(1, "--room", "40 KiB", "SELECT max(load) FROM sail").stderr, "give more with --room")
	var got struct {
		Result []struct {
			Columns []string
			Rows    [][]any
		}
	}
	require.NoError(t, json.Unmarshal([]byte(ask(0, "--json", "SELECT port, load, x'00ff' AS raw FROM sail WHERE id = 4", "SELECT 1 AS one").stdout), &got))
	require.Equal(t, [][]any{{nil, 0.5, "x'00ff'"}}, got.Result[0].Rows)
	require.Equal(t, []string{"one"}, got.Result[1].Columns)
	shown := ask(0, "SELECT id, port FROM sail")
	require.Contains(t, shown.stderr, "and 2,801 more rows")
	require.Contains(t, shown.stdout, "  4  NULL\n")
	require.Equal(t, "3\n7\n", sh(t, dir, "printf 'SELECT 3 AS n;\\n\\nSELECT\\n7 AS n;' | "+program+" ask adhoc/app.db --from keep --as csv 2>said | grep -v n"))
	left, err := filepath.Glob(filepath.Join(os.Getenv("TMPDIR"), "grainkeep-*", "run-*", "answers.db"))
	require.NoError(t, err)
	require.Empty(t, left, "nothing is left of it")
}
