package test

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/manifest"
	"grainkeep/internal/testserver"
)

// busyTables are tables that are written to all the time.
var busyTables = []string{
	"CREATE TABLE account (id int PRIMARY KEY, balance bigint NOT NULL)",
	"CREATE TABLE moved (id bigint PRIMARY KEY AUTO_INCREMENT, account int, amount bigint, FOREIGN KEY (account) REFERENCES account (id))",
	"CREATE TABLE parent (id bigint PRIMARY KEY, v int)",
	"CREATE TABLE child (id bigint PRIMARY KEY AUTO_INCREMENT, p bigint, FOREIGN KEY (p) REFERENCES parent (id) ON DELETE CASCADE " +
		"ON UPDATE CASCADE)",
	"CREATE TABLE bulk (id bigint PRIMARY KEY, v varchar(40), n int)", "CREATE TABLE pad (id bigint PRIMARY KEY AUTO_INCREMENT, v int)",
	"INSERT INTO account VALUES (1, 0), (2, 0), (3, 0), (4, 0), (5, 0), (6, 0)",
}

// busyFacts are what those who record look at: all that is in the tables whose structure stays.
const busyFacts = "SELECT a.total, m.total, a.rows_, m.rows_, p.rows_, c.rows_, b.rows_ FROM " +
	"(SELECT coalesce(sum(balance), 0) AS total, coalesce(sum(crc32(concat_ws('|', id, balance))), 0) AS rows_ FROM account) a, " +
	"(SELECT coalesce(sum(amount), 0) AS total, coalesce(sum(crc32(concat_ws('|', id, account, amount))), 0) AS rows_ FROM moved) m, " +
	"(SELECT coalesce(sum(crc32(concat_ws('|', id, v))), 0) AS rows_ FROM parent) p, " +
	"(SELECT coalesce(sum(crc32(concat_ws('|', id, p))), 0) AS rows_ FROM child) c, " +
	"(SELECT coalesce(sum(crc32(concat_ws('|', id, v, n))), 0) AS rows_ FROM bulk) b"

// busily does one of the things that go on.
func busily(r *rand.Rand, w int) []string {
	n := r.IntN(1 << 30)
	from, to := r.IntN(6)+1, r.IntN(6)+1
	switch r.IntN(14) {
	case 0:
		return []string{fmt.Sprintf("INSERT INTO parent VALUES (%d, %d)", n, w), fmt.Sprintf("INSERT INTO child (p) VALUES (%d), (%d), "+
			"(%d)", n, n, n)}
	case 1:
		return []string{fmt.Sprintf("UPDATE parent SET id = id + 3, v = v + 1 WHERE id > %d LIMIT 1", n)}
	case 2:
		return []string{fmt.Sprintf("DELETE FROM parent WHERE id < %d LIMIT 1", n)}
	case 3:
		return []string{"TRUNCATE pad", "INSERT INTO pad (v) VALUES (1), (2)"}
	case 4:
		return []string{"BEGIN", fmt.Sprintf("INSERT INTO bulk SELECT %d + a.id * 1000 + b.id * 100 + c.id * 10 + d.id, md5(rand()), d.id FROM account a, "+
			"account b, account c, account d", n), fmt.Sprintf("UPDATE bulk SET n = n + 1 WHERE id > %d LIMIT 300", n), "COMMIT"}
	case 5:
		return []string{fmt.Sprintf("DELETE FROM bulk WHERE id < %d LIMIT 500", n)}
	case 6:
		return []string{"BEGIN", "UPDATE account SET balance = balance + 1000000", "DELETE FROM moved", "ROLLBACK"}
	case 7:
		return []string{"BEGIN", fmt.Sprintf("UPDATE account SET balance = balance + 7 WHERE id = %d", from), "SAVEPOINT s",
			"DELETE FROM moved LIMIT 5", "ROLLBACK TO s", fmt.Sprintf("UPDATE account SET balance = balance - 7 WHERE id = %d", from),
			"COMMIT"}
	case 8:
		if r.IntN(30) == 0 {
			return []string{fmt.Sprintf("ALTER TABLE pad ADD COLUMN c%d int", n%1000), fmt.Sprintf("CREATE TABLE x%d (id int PRIMARY KEY)", n%1000)}
		}
		return []string{"INSERT INTO pad (v) VALUES (5)"}
	default:
		return []string{"BEGIN", fmt.Sprintf("UPDATE account SET balance = balance - %d WHERE id = %d", n%900, min(from, to)),
			fmt.Sprintf("UPDATE account SET balance = balance + %d WHERE id = %d", n%900, max(from, to)),
			fmt.Sprintf("INSERT INTO moved (account, amount) VALUES (%d, -%d), (%d, %d)", min(from, to), n%900, max(from, to), n%900),
			"COMMIT"}
	}
}

// TestLogUnderLoad writes all the time, takes increments, and new baselines between. Moments that an independent recorder
// noted come back as they were, and the closed chains have the rows of the fulls. GRAINKEEP_LOAD says for how long.
func TestLogUnderLoad(t *testing.T) {
	needMariaDB(t)
	for _, maria := range []bool{true, false} {
		t.Run(map[bool]string{true: "MariaDB", false: "MySQL"}[maria], func(t *testing.T) {
			start, settings := testserver.StartMariaDB, []string{"--binlog-format=ROW"}
			if !maria {
				if noMySQL != nil {
					t.Skip("no MySQL: ", noMySQL)
				}
				start, settings = testserver.StartMySQL, nil
			}
			m, err := start(ownFolder(t), append(settings, "--max-binlog-size=1M")...)
			require.NoError(t, err)
			defer m.Close()
			logUnderLoad(t, m)
		})
	}
}

// recorded is what was there when the log stood at a place.
type recorded struct{ place, facts string }

func logUnderLoad(t *testing.T, m *testserver.MySQL) {
	queryMaria(t, m, "", "CREATE DATABASE busy")
	for _, sql := range busyTables {
		queryMaria(t, m, "busy", sql)
	}
	long := 8 * time.Second
	if text := os.Getenv("GRAINKEEP_LOAD"); text != "" {
		var err error
		long, err = time.ParseDuration(text)
		require.NoError(t, err)
	}
	dir := t.TempDir()
	dumps := func(args ...string) {
		run(t, dir, -1, append([]string{"dump", "--from", m.URL("busy"), "--to", "keep", "--kind"}, args...)...)
	}
	dumps("full", "--new-baseline")
	db := m.Open("busy")
	defer db.Close()
	ctx, stop := context.WithTimeout(context.Background(), long)
	defer stop()
	var work sync.WaitGroup
	var did atomic.Int64
	for w := range 8 {
		work.Go(func() {
			c, err := db.Conn(context.Background())
			if err != nil {
				return
			}
			defer c.Close()
			r := rand.New(rand.NewPCG(seedOf(t), uint64(w)))
			for ctx.Err() == nil {
				for _, sql := range busily(r, w) {
					if _, err := c.ExecContext(context.Background(), sql); err != nil { // a deadlock: all of it is taken back
						c.ExecContext(context.Background(), "ROLLBACK")
						break
					}
				}
				did.Add(1)
			}
		})
	}
	var notes []recorded
	work.Go(func() { notes = noteDown(ctx, t, db, m.Maria) })
	for n := 1; ctx.Err() == nil; n++ {
		if time.Sleep(300 * time.Millisecond); n%6 == 0 {
			dumps("full", "--new-baseline")
		} else {
			dumps("incremental")
		}
	}
	work.Wait()
	dumps("full", "--new-baseline")
	require.Greater(t, did.Load(), int64(200))
	require.Greater(t, len(notes), 5)
	r := rand.New(rand.NewPCG(seedOf(t), 9))
	for i, n := range r.Perm(len(notes))[:min(10, len(notes))] {
		name := fmt.Sprint("back", i)
		run(t, dir, -1, "restore", "adhoc/busy", "--from", "keep", "--to", m.URL(""), "--as", name, "--at", notes[n].place,
			"--only", "account", "--only", "moved", "--only", "parent", "--only", "child", "--only", "bulk")
		require.Equal(t, notes[n].facts, queryMaria(t, m, name, busyFacts), notes[n].place)
		require.True(t, strings.HasPrefix(notes[n].facts, "0|0|"), notes[n].facts)
	}
	closed := 0
	for _, mf := range manifestsIn(t, filepath.Join(dir, "keep")) {
		if mf.Closes == "" {
			continue
		}
		closed++
		for _, w := range mf.Warnings {
			require.NotEqual(t, "chain-differs", w.Code, w.Text)
		}
		if closed < 3 {
			folder := filepath.Join("keep", "adhoc", "busy", mf.Moment.UTC().Format("20060102T150405Z")+"-"+string(manifest.Incremental))
			run(t, dir, -1, "drill", "./"+folder, "--to", m.URL(""))
		}
	}
	require.Positive(t, closed)
}

// noteDown notes what is there at places in the log, while nobody can write.
func noteDown(ctx context.Context, t *testing.T, db *sql.DB, maria bool) (notes []recorded) {
	c, err := db.Conn(context.Background())
	if err != nil {
		return nil
	}
	defer c.Close()
	status := "SHOW BINARY LOG STATUS"
	if maria {
		status = "SHOW MASTER STATUS"
	}
	for ctx.Err() == nil {
		if _, err := c.ExecContext(ctx, "LOCK TABLES account READ, moved READ, parent READ, child READ, bulk READ"); err != nil {
			continue
		}
		var n recorded
		var facts [7]string
		into := make([]any, len(facts))
		for i := range facts {
			into[i] = &facts[i]
		}
		rows, err := c.QueryContext(context.Background(), status)
		if err == nil && rows.Next() {
			columns, _ := rows.Columns()
			values := make([]any, len(columns))
			var file, at string
			values[0], values[1] = &file, &at
			for i := range values[2:] {
				values[i+2] = new(sql.NullString)
			}
			if rows.Scan(values...) == nil {
				n.place = file + ":" + at
			}
			rows.Close()
		}
		if err := c.QueryRowContext(context.Background(), busyFacts).Scan(into...); err == nil && n.place != "" {
			n.facts = strings.Join(facts[:], "|")
			notes = append(notes, n)
		} else {
			t.Log(err)
		}
		c.ExecContext(context.Background(), "UNLOCK TABLES")
		time.Sleep(150 * time.Millisecond)
	}
	return notes
}
