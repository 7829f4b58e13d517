package test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/stdlib"
	"github.com/stretchr/testify/require"

	"grainkeep/internal/manifest"
	"grainkeep/internal/testserver"
)

// busyTables are tables that are written to all the time.
var busyTables = []string{
	"CREATE TABLE account (id int PRIMARY KEY, balance bigint NOT NULL)",
	"CREATE TABLE moved (id bigint PRIMARY KEY AUTO_INCREMENT, account int, amount bigint, FOREIGN KEY (account) " +
		"REFERENCES account (id))",
	"CREATE TABLE parent (id bigint PRIMARY KEY, v int)",
	"CREATE TABLE child (id bigint PRIMARY KEY AUTO_INCREMENT, p bigint, FOREIGN KEY (p) REFERENCES parent (id) ON " +
		"DELETE CASCADE " +
		"ON UPDATE CASCADE)",
	"CREATE TABLE bulk (id bigint PRIMARY KEY, v varchar(40), n int)",
	"CREATE TABLE pad (id bigint PRIMARY KEY AUTO_INCREMENT, v int)",
	"INSERT INTO account VALUES (1, 0), (2, 0), (3, 0), (4, 0), (5, 0), (6, 0)",
}

// busyFacts are what those who record look at: all that is in the tables whose structure stays.
const busyFacts = "SELECT a.total, m.total, a.rows_, m.rows_, p.rows_, c.rows_, b.rows_ FROM " +
	"(SELECT coalesce(sum(balance), 0) AS total, coalesce(sum(crc32(concat_ws('|', id, balance))), 0) AS rows_ FROM " +
	"account) a, " +
	"(SELECT coalesce(sum(amount), 0) AS total, coalesce(sum(crc32(concat_ws('|', id, account, amount))), 0) AS rows_ " +
	"FROM moved) m, " +
	"(SELECT coalesce(sum(crc32(concat_ws('|', id, v))), 0) AS rows_ FROM parent) p, " +
	"(SELECT coalesce(sum(crc32(concat_ws('|', id, p))), 0) AS rows_ FROM child) c, " +
	"(SELECT coalesce(sum(crc32(concat_ws('|', id, v, n))), 0) AS rows_ FROM bulk) b"

// busily does one of the things that go on.
func busily(r *rand.Rand, w int) []string {
	n := r.IntN(1 << 30)
	from, to := r.IntN(6)+1, r.IntN(6)+1
	switch r.IntN(14) {
	case 0:
		return []string{fmt.Sprintf("INSERT INTO parent VALUES (%d, %d)", n, w),
			fmt.Sprintf("INSERT INTO child (p) VALUES (%d), (%d), "+
				"(%d)", n, n, n)}
	case 1:
		return []string{fmt.Sprintf("UPDATE parent SET id = id + 3, v = v + 1 WHERE id > %d LIMIT 1", n)}
	case 2:
		return []string{fmt.Sprintf("DELETE FROM parent WHERE id < %d LIMIT 1", n)}
	case 3:
		return []string{"TRUNCATE pad", "INSERT INTO pad (v) VALUES (1), (2)"}
	case 4:
		return []string{"BEGIN", fmt.Sprintf("INSERT INTO bulk SELECT %d + a.id * 1000 + b.id * 100 + c.id * 10 + d.id, "+
			"md5(rand()), d.id FROM account a, "+
			"account b, account c, account d", n), fmt.Sprintf("UPDATE bulk SET n = n + 1 WHERE id > %d LIMIT 300", n), "COMMIT"}
	case 5:
		return []string{fmt.Sprintf("DELETE FROM bulk WHERE id < %d LIMIT 500", n)}
	case 6:
		return []string{"BEGIN", "UPDATE account SET balance = balance + 1000000", "DELETE FROM moved", "ROLLBACK"}
	case 7:
		return []string{"BEGIN", fmt.Sprintf("UPDATE account SET balance = balance + 7 WHERE id = %d", from), "SAVEPOINT s",
			"DELETE FROM moved LIMIT 5", "ROLLBACK TO s", fmt.Sprintf("UPDATE account SET balance = balance - 7 WHERE id = "+
				"%d", from),
			"COMMIT"}
	case 8:
		if r.IntN(30) == 0 {
			return []string{fmt.Sprintf("ALTER TABLE pad ADD COLUMN c%d int", n%1000),
				fmt.Sprintf("CREATE TABLE x%d (id int PRIMARY KEY)", n%1000)}
		}
		return []string{"INSERT INTO pad (v) VALUES (5)"}
	default:
		return []string{"BEGIN", fmt.Sprintf("UPDATE account SET balance = balance - %d WHERE id = %d", n%900, min(from, to)),
			fmt.Sprintf("UPDATE account SET balance = balance + %d WHERE id = %d", n%900, max(from, to)),
			fmt.Sprintf("INSERT INTO moved (account, amount) VALUES (%d, -%d), (%d, %d)", min(from, to), n%900, max(from,
				to), n%900),
			"COMMIT"}
	}
}

// busyServer is a server that is written to all the time.
type busyServer struct {
	url   func(database string) string
	open  func() *sql.DB
	place string // the query for the place in the log
	lock  string // keeps writers out of the tables
	free  string
	ask   func(database, sql string) string
	make  func()
	cut   func() bool  // cuts off whoever reads the log; false: nobody does
	crash func() error // ends the server, and starts it again
}

// TestLogUnderLoad writes all the time, takes increments, and new baselines between. Some dumps are killed, of some the
// reader of the log is cut off, and the server crashes in between. Moments that an independent recorder noted come back
// as they were, and the closed chains have the rows of the fulls. GRAINKEEP_LOAD says for how long.
func TestLogUnderLoad(t *testing.T) {
	const names = "account, moved, parent, child, bulk"
	ofMySQL := func(m *testserver.MySQL, status string) busyServer {
		return busyServer{url: m.URL, open: func() *sql.DB { return m.Open("busy") }, place: status, free: "UNLOCK TABLES",
			lock: "LOCK TABLES " + strings.ReplaceAll(names, ",", " READ,") + " READ",
			ask:  func(d, q string) string { return queryMaria(t, m, d, q) },
			make: func() {
				queryMaria(t, m, "", "CREATE DATABASE busy")
				for _, sql := range busyTables {
					queryMaria(t, m, "busy", sql)
				}
			},
			cut: func() bool {
				id, _, _ := strings.Cut(queryMaria(t, m, "", "SELECT id FROM information_schema.processlist WHERE command LIKE "+
					"'Binlog Dump%'"), "\n")
				return id != "" && m.Script(context.Background(), "", "KILL "+id) == nil // it may have ended
			},
			crash: func() error { return errors.Join(m.Stop("immediate"), m.Start()) }}
	}
	t.Run("MariaDB", func(t *testing.T) {
		t.Parallel()
		needMariaDB(t)
		m, err := testserver.StartMariaDB(ownFolder(t), "--binlog-format=ROW", "--max-binlog-size=1M",
			"--innodb-flush-log-at-trx-commit=2")
		require.NoError(t, err)
		defer m.Close()
		logUnderLoad(t, ofMySQL(m, "SHOW MASTER STATUS"), func(sql string) string { return sql })
	})
	t.Run("MySQL", func(t *testing.T) {
		t.Parallel()
		if noMySQL != nil {
			t.Skip("no MySQL: ", noMySQL)
		}
		m, err := testserver.StartMySQL(ownFolder(t), "--max-binlog-size=1M", "--innodb-flush-log-at-trx-commit=2")
		require.NoError(t, err)
		defer m.Close()
		logUnderLoad(t, ofMySQL(m, "SHOW BINARY LOG STATUS"), func(sql string) string { return sql })
	})
	t.Run("PostgreSQL", func(t *testing.T) {
		t.Parallel()
		needServer(t)
		p, err := testserver.StartPostgres(ownFolder(t), "wal_level = logical", "max_slot_wal_keep_size = '2GB'")
		require.NoError(t, err)
		defer p.Close()
		logUnderLoad(t, busyServer{url: p.URL, place: "SELECT pg_current_wal_insert_lsn()", free: "COMMIT",
			lock: "BEGIN; LOCK TABLE " + names + " IN SHARE MODE",
			open: func() *sql.DB { return stdlib.OpenDB(*p.Config("busy")) },
			ask:  func(d, q string) string { return query(t, p, d, q) },
			make: func() {
				query(t, p, "postgres", "CREATE DATABASE busy")
				for _, sql := range busyTables {
					query(t, p, "busy", inPostgres(sql))
				}
			},
			cut: func() bool {
				return query(t, p, "busy", "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = "+
					"'grainkeep' AND backend_type = 'walsender' AND query ~ '^START_'") != ""
			},
			crash: func() error { return errors.Join(p.Stop("immediate"), p.Start()) }}, inPostgres)
	})
}

// limited is what a statement has at its end that PostgreSQL does not know.
var limited = regexp.MustCompile(`^(UPDATE|DELETE FROM) (\w+)(.*?)( WHERE .*)? LIMIT (\d+)$`)

// inPostgres is a statement as PostgreSQL wants it.
func inPostgres(sql string) string {
	sql = strings.NewReplacer("bigint PRIMARY KEY AUTO_INCREMENT", "bigserial PRIMARY KEY", "md5(rand())",
		"md5(random()::text)",
		"crc32(", "hashtext(").Replace(sql)
	if m := limited.FindStringSubmatch(sql); m != nil {
		return m[1] + " " + m[2] + m[3] + " WHERE id IN (SELECT id FROM " + m[2] + m[4] + " LIMIT " + m[5] + ")"
	}
	return sql
}

// recorded is what was there when the log stood at a place.
type recorded struct{ place, facts string }

func logUnderLoad(t *testing.T, s busyServer, in func(string) string) {
	s.make()
	long, most := 4*time.Second, 3
	if text := os.Getenv("GRAINKEEP_LOAD"); text != "" {
		var err error
		long, err = time.ParseDuration(text)
		require.NoError(t, err)
		most = 10
	}
	dir := t.TempDir()
	dumps := []string{"dump", "--from", s.url("busy"), "--to", "keep", "--kind"}
	taken := func(args ...string) { run(t, dir, -1, append(dumps[:len(dumps):len(dumps)], args...)...) }
	taken("full", "--new-baseline")
	db := s.open()
	defer db.Close()
	ctx, stop := context.WithTimeout(context.Background(), long)
	defer stop()
	var work sync.WaitGroup
	var did atomic.Int64
	for w := range 8 {
		work.Go(func() {
			r := rand.New(rand.NewPCG(seedOf(t), uint64(w)))
			for ctx.Err() == nil {
				c, err := db.Conn(ctx)
				for err == nil && ctx.Err() == nil {
					for _, sql := range busily(r, w) {
						if _, err = c.ExecContext(context.Background(), in(sql)); err != nil { // a deadlock: all of it is taken back
							_, err = c.ExecContext(context.Background(), "ROLLBACK")
							break
						}
					}
					did.Add(1)
				}
				if c != nil { // the server is gone, or the time is over
					c.Close()
				}
				time.Sleep(tick)
			}
		})
	}
	var notes []recorded
	work.Go(func() { notes = noteDown(ctx, t, db, s, in(busyFacts)) })
	r := rand.New(rand.NewPCG(seedOf(t), 9))
	cuts, crashes := 0, 0
	for n := 1; ctx.Err() == nil || n < 7; n++ {
		time.Sleep(300 * time.Millisecond)
		switch n % 7 {
		case 2: // it is killed
			cmd, _, wait := command(dir, append(dumps, "incremental")...)
			require.NoError(t, cmd.Start())
			time.Sleep(time.Duration(r.IntN(300)) * time.Millisecond)
			cmd.Process.Kill()
			wait()
		case 3: // its reader of the log is cut off; then it has failed, or was done before
			cmd, o, wait := command(dir, append(dumps, "incremental")...)
			require.NoError(t, cmd.Start())
			ended := make(chan struct{})
			go func() { wait(); close(ended) }()
			for cut := false; !cut; {
				select {
				case <-ended:
					cut = true
				default:
					if cut = s.cut(); cut {
						cuts++
					}
				}
			}
			<-ended
			require.Contains(t, []int{0, 1, 3}, o.code, o.stderr)
		case 5:
			if crashes++; crashes < 3 || n%5 == 0 {
				require.NoError(t, s.crash())
			}
			taken("incremental")
		case 6:
			taken("full", "--new-baseline")
		default:
			taken("incremental")
		}
	}
	t.Logf("%d readers were cut off", cuts)
	work.Wait()
	taken("incremental") // between two fulls alone no log is read
	taken("full", "--new-baseline")
	require.Greater(t, did.Load(), int64(20), "there was load")
	require.NotEmpty(t, notes)
	defer func() {
		for _, m := range manifestsIn(t, filepath.Join(dir, "keep")) {
			if t.Failed() {
				t.Log(m.Moment, m.Kind, m.Closes, m.From, m.To, m.Payload.SQL.Found, m.Payload.SQL.NoLog)
			}
		}
	}()
	for i, n := range r.Perm(len(notes))[:min(most, len(notes))] {
		name := fmt.Sprint("back", i)
		run(t, dir, -1, "restore", "adhoc/busy", "--from", "keep", "--to", s.url(""), "--as", name, "--at", notes[n].place,
			"--only", "account", "--only", "moved", "--only", "parent", "--only", "child", "--only", "bulk")
		require.Equal(t, notes[n].facts, s.ask(name, in(busyFacts)), notes[n].place)
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
		if closed < 2 || most > 3 {
			folder := filepath.Join("keep", "adhoc", "busy",
				mf.Moment.UTC().Format("20060102T150405Z")+"-"+string(manifest.Incremental))
			run(t, dir, -1, "drill", "./"+folder, "--to", s.url(""))
		}
	}
	require.Positive(t, closed)
}

// noteDown notes what is there at places in the log, while nobody can write.
func noteDown(ctx context.Context, t *testing.T, db *sql.DB, s busyServer, query string) (notes []recorded) {
	for tries := 0; ctx.Err() == nil || len(notes) == 0 && tries < 50; time.Sleep(150 * time.Millisecond) {
		tries++ // once at least, when the writers have ended
		c, err := db.Conn(context.Background())
		if err != nil {
			continue
		}
		if _, err := c.ExecContext(context.Background(), s.lock); err != nil {
			c.ExecContext(context.Background(), s.free)
			c.Close()
			continue
		}
		place, err := firstRow(c, s.place)
		if err == nil {
			var facts []string
			if facts, err = firstRow(c, query); err == nil {
				at := place[0]
				if len(place) > 1 { // a file, and where in it
					at += ":" + place[1]
				}
				notes = append(notes, recorded{at, strings.Join(facts, "|")})
			}
		}
		if err != nil {
			t.Log(err)
		}
		c.ExecContext(context.Background(), s.free)
		c.Close()
	}
	return notes
}

// firstRow gives the first row of a query as texts.
func firstRow(c *sql.Conn, query string) ([]string, error) {
	rows, err := c.QueryContext(context.Background(), query)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil || !rows.Next() {
		return nil, fmt.Errorf("%s: no row: %w", query, err)
	}
	texts, into := make([]sql.NullString, len(columns)), make([]any, len(columns))
	for i := range into {
		into[i] = &texts[i]
	}
	err = rows.Scan(into...)
	list := make([]string, len(texts))
	for i, x := range texts {
		list[i] = x.String
	}
	return list, err
}
