package test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// comparedRows is what JSON says of a table's rows.
type comparedRows struct {
	Result struct {
		Differences struct {
			Same    int
			Unknown []string
			Tables  []struct {
				Of    string
				Which *struct {
					Added, Removed, Changed int
					Key, Left               []string
					Rows                    []struct {
						How     string
						Key     []struct{ Column, Value string }
						Changed []struct {
							Column  string
							Was, Is *string
						}
					}
				}
			}
		}
	}
}

func compareRows(t *testing.T, dir string, args ...string) (c comparedRows) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(run(t, dir, 0, append([]string{"compare", "--json", "--rows"}, args...)...).stdout), &c))
	return c
}

// rowsSaid is what was found, in short.
func (c comparedRows) rowsSaid() (list []string) {
	for _, t := range c.Result.Differences.Tables {
		if t.Which == nil {
			continue
		}
		said := fmt.Sprintf("%s +%d -%d ~%d", strings.NewReplacer("`", "", "public.", "").Replace(t.Of), t.Which.Added, t.Which.Removed, t.Which.Changed)
		for _, r := range t.Which.Rows {
			for _, x := range r.Changed {
				if len(r.Key) == 1 && x.Was != nil && x.Is != nil {
					said += fmt.Sprintf(" %s.%s:%s>%s", r.Key[0].Value, x.Column, *x.Was, *x.Is)
				}
			}
		}
		list = append(list, said)
	}
	return list
}

// TestCompareRows: rows that differ between two dumps are told apart by key, also where the key has several columns, or
// there is none; tables that are the same are not read.
func TestCompareRows(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	sh(t, dir, `sqlite3 app.db "CREATE TABLE sail (id INTEGER PRIMARY KEY, port TEXT, free INT); CREATE TABLE berth (ship TEXT, deck TEXT, n INT,
		PRIMARY KEY (ship, deck)) WITHOUT ROWID; CREATE TABLE log (says TEXT); CREATE TABLE still (id INTEGER PRIMARY KEY);
		WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 9000) INSERT INTO sail SELECT i, 'P' || i, i % 7 FROM n;
		INSERT INTO berth VALUES ('Tern', 'car', 1), ('Tern', 'upper', 2), ('Skerry', 'car', NULL); INSERT INTO log VALUES ('a'), ('b'), ('b');
		INSERT INTO still VALUES (1)"`)
	run(t, dir, -1, "dump", "--from", "app.db", "--to", "keep")
	sh(t, dir, `sqlite3 app.db "UPDATE sail SET port = 'Quay' WHERE id IN (5, 8999); DELETE FROM sail WHERE id = 77; INSERT INTO sail VALUES
		(9001, NULL, NULL); UPDATE berth SET n = 3 WHERE deck = 'car'; INSERT INTO log VALUES ('a'); ALTER TABLE sail ADD COLUMN more TEXT"`)
	run(t, dir, -1, "dump", "--from", "app.db", "--to", "keep")
	dumps := strings.Fields(sh(t, dir, "ls -d $PWD/keep/adhoc/app.db/*-full*"))
	require.Len(t, dumps, 2)
	c := compareRows(t, dir, dumps[0], dumps[1])
	require.Equal(t, []string{"berth +0 -0 ~2", "log +1 -0 ~0", "sail +1 -1 ~2 5.port:P5>Quay 8999.port:P8999>Quay"}, c.rowsSaid())
	require.Equal(t, 1, c.Result.Differences.Same)
	for _, x := range c.Result.Differences.Tables {
		require.Equal(t, map[string][]string{"berth": {"ship", "deck"}, "log": {"rowid"}, "sail": {"id"}}[x.Of], x.Which.Key)
		require.Equal(t, map[string][]string{"sail": {"more"}}[x.Of], append([]string(nil), x.Which.Left...))
	}
	said := run(t, dir, 0, "compare", dumps[0], dumps[1], "--table", "b*").stdout
	require.Contains(t, said, "berth: 0 rows added, 0 removed, 2 changed\n  ~  ship Skerry, deck car  n: NULL → 3\n")
	require.NotContains(t, said, "8999")
	require.Contains(t, run(t, dir, 2, "compare", dumps[0], dumps[1], "--table", "ship").stderr, `has no table "ship"`)
	require.Contains(t, run(t, dir, 1, "compare", dumps[0], dumps[1], "--rows", "--room", "20 KiB").stderr, "give more with --room")
}

// TestCompareRowsOnServers: the same between the dumps of a chain, a moment between them, and the live database.
func TestCompareRowsOnServers(t *testing.T) {
	t.Parallel()
	chainedServers(t, func(t *testing.T, name string, x chained) {
		for _, sql := range []string{"CREATE TABLE guest (id int PRIMARY KEY, name varchar(40), paid decimal(8,2))", "CREATE TABLE note (says varchar(40))",
			"INSERT INTO guest VALUES (1, 'Inga', 1.50), (2, 'Tarn', 2), (3, 'Maren', NULL)", "INSERT INTO note VALUES ('a'), ('b')"} {
			x.sql("live", sql)
		}
		x.configure(t, "")
		run(t, x.dir, -1, "dump", "nightly", "--kind", "full", "--new-baseline")
		run(t, x.dir, -1, "dump", "nightly", "--kind", "incremental") // from here on the log is followed
		x.sql("live", "UPDATE guest SET paid = 9.00 WHERE id = 2")
		x.sql("live", "DELETE FROM guest WHERE id = 1")
		x.sql("live", "INSERT INTO note VALUES ('c')")
		run(t, x.dir, -1, "dump", "nightly", "--kind", "incremental")
		dumps := strings.Fields(sh(t, x.dir, "ls -d $PWD/barn/nightly/live/2*"))
		require.Len(t, dumps, 3, "%v", dumps)
		want := []string{"guest +0 -1 ~1 2.paid:2.00>9.00", "note +1 -0 ~0"}
		require.Equal(t, want, compareRows(t, x.dir, dumps[0], dumps[2]).rowsSaid())
		found := result(t, x.dir, 0, "find", "nightly/live", "--table", "guest")["result"].([]any)
		require.Len(t, found, 2)
		last := found[1].(map[string]any)["transaction"].(string)
		if last == "" {
			last = found[1].(map[string]any)["position"].(string)
		}
		inside := compareRows(t, x.dir, "nightly/live", "--at", "before "+last, "--table", "guest")
		require.Equal(t, []string{"guest +0 -1 ~0"}, inside.rowsSaid(), "between the two transactions")
		x.sql("live", "UPDATE guest SET name = 'Tarn O''Fell' WHERE id = 2")
		require.Equal(t, []string{"guest +0 -0 ~1 2.name:Tarn>Tarn O'Fell"}, compareRows(t, x.dir, "nightly/live", "--with", "quay").rowsSaid())
	})
}
