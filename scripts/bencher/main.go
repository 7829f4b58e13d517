// Command bencher measures what docs/performance.md promises, as ratios within
// one run. scripts/bench runs it.
package main

import (
	"context"
	"database/sql"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"syscall"
	"time"

	_ "modernc.org/sqlite"

	"grainkeep/internal/testserver"
)

// part is what is measured of each engine; empty: all.
var part string

func main() {
	program := flag.String("program", "bin/grainkeep", "the built program")
	only := flag.String("only", "", "sqlite, postgres, mariadb, mysql, away, ask or scale: measure just that")
	scale := flag.Float64("scale", 1, "part of the full size: 5 M rows for PostgreSQL, 2 M for the others")
	flag.StringVar(&part, "part", "", "full, comparison, log or restore: measure just that of each")
	flag.IntVar(&rounds, "rounds", rounds, "how often each is measured; the median counts")
	flag.Parse()
	path, err := filepath.Abs(*program)
	if err == nil {
		err = bench(path, *only, *scale)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func bench(program, only string, scale float64) error {
	dir, err := os.MkdirTemp("", "grainkeep-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	if err := startUp(program); err != nil {
		return err
	}
	for _, b := range []struct {
		name  string
		rows  float64
		bench func(program, dir string, rows int) error
	}{{"sqlite", 2e6, benchSQLite}, {"postgres", 5e6, benchPostgres}, {"mariadb", 2e6, benchMariaDB}, {"mysql", 2e6,
		benchMySQL}, {"away", 2e6, benchAway}, {"ask", 9e5, benchAsk}, {"scale", manyDumps, benchScale}} {
		if only != "" && only != b.name {
			continue
		}
		if err := b.bench(program, dir, int(b.rows*scale)); err != nil {
			return fmt.Errorf("%s: %w", b.name, err)
		}
	}
	return nil
}

func startUp(program string) error {
	best := time.Hour
	for range 10 {
		start := time.Now()
		if err := exec.Command(program, "version").Run(); err != nil {
			return err
		}
		best = min(best, time.Since(start))
	}
	fmt.Printf("%-22s best %5.1f ms (aim: under 20 ms)\n", "start-up", float64(best.Microseconds())/1000)
	return nil
}

// measured runs the program and gives its time and its largest memory.
func measured(program string, args ...string) (time.Duration, int64, error) {
	cmd := exec.Command(program, args...)
	cmd.Env = append(os.Environ(), "GRAINKEEP_CONFIG=")
	start := time.Now()
	out, err := cmd.CombinedOutput()
	took := time.Since(start)
	var exit *exec.ExitError
	if errors.As(err, &exit) && (exit.ExitCode() == 3 || exit.ExitCode() == 4) {
		err = nil // the keep is beside the data, or something is stale, and it says so
	}
	if err != nil {
		return 0, 0, fmt.Errorf("%w\n%s", err, out)
	}
	return took, cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss / 1024, nil
}

// rounds are taken in turns, so that a machine whose speed moves is fair to both.
var rounds = 5

// contest is what the program does, measured against another way to do it.
type contest struct {
	what    string
	aim     float64      // of the median ratio
	prepare func() error // before each round; not measured
	against func() error
	between func() error             // after the other way; not measured
	own     func(round int) []string // the program's words
}

func (c contest) run(program string) error {
	if !strings.HasPrefix(c.what, part) {
		return nil
	}
	best, other, memory := time.Hour, time.Hour, int64(0)
	ratios := make([]float64, rounds)
	for i := range rounds {
		if err := aside(c.prepare); err != nil {
			return err
		}
		start := time.Now()
		if err := c.against(); err != nil {
			return err
		}
		o := time.Since(start)
		if err := aside(c.between); err != nil {
			return err
		}
		t, m, err := measured(program, c.own(i)...)
		if err != nil {
			return err
		}
		best, other, memory = min(best, t), min(other, o), max(memory, m)
		ratios[i] = t.Seconds() / o.Seconds()
	}
	report(c.what, c.aim, best, other, ratios, memory)
	return nil
}

func aside(do func() error) error {
	if do == nil {
		return nil
	}
	return do()
}

// duel measures a dump against another way to read the same rows.
func duel(what string, aim float64, against func() error, program, from, to string) error {
	return contest{what: what, aim: aim, against: against, own: func(round int) []string {
		return []string{"dump", "--from", from, "--to", to, "--job", fmt.Sprint("bench", round)}
	}}.run(program)
}

func report(what string, aim float64, best, other time.Duration, ratios []float64, memory int64) {
	sort.Float64s(ratios)
	fmt.Printf("%-22s best %5.2f s against %5.2f s: ratio %.2f, median of the rounds %.2f (aim: at most %.2f); "+
		"memory %d MiB (aim: at most 96)\n",
		what, best.Seconds(), other.Seconds(), best.Seconds()/other.Seconds(), ratios[rounds/2], aim, memory)
}

func benchSQLite(program, dir string, rows int) error {
	path := filepath.Join(dir, "bench.db")
	db, err := sql.Open("sqlite", "file:"+path)
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.Exec(fmt.Sprintf(`CREATE TABLE booking (id INTEGER PRIMARY KEY, reference TEXT, passenger TEXT,
		made_at TEXT, price INTEGER, weight REAL, note TEXT);
		WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d)
		INSERT INTO booking SELECT i, printf('TS%%07X', i * 37), 'Passenger number ' || (i %% 60000),
			datetime('2026-03-01', (i * 61 %% 20000000) || ' seconds'),
			i * 7919 %% 90000, (i * 31 %% 100000) / 7.0, CASE i %% 3 WHEN 0 THEN NULL ELSE 'travels on deck ' || (i
				* 13 %% 500) || ' with a bicycle and a dog' END FROM n;`, rows))
	if err != nil {
		return err
	}
	store, read := filepath.Join(dir, "keep-sqlite"), func() error { return scanAll(db) }
	if err := duel("full dump, SQLite", 0.80, read, program, path, store); err != nil {
		return err
	}
	return benchCompare("SQLite", program, path, store, func(first, last int) error {
		_, err := db.Exec("UPDATE booking SET price = price + 1 WHERE id BETWEEN ? AND ?", first, last)
		return err
	}, read)
}

// scanAll reads every value through the driver and throws it away.
func scanAll(db *sql.DB) error {
	rows, err := db.Query("SELECT * FROM booking")
	if err != nil {
		return err
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return err
	}
	values := make([]any, len(columns))
	for i := range values {
		values[i] = new(any)
	}
	for rows.Next() {
		if err := rows.Scan(values...); err != nil {
			return err
		}
	}
	return rows.Err()
}

func benchPostgres(program, dir string, rows int) error {
	p, err := testserver.StartPostgres(dir, "wal_level = logical", "max_slot_wal_keep_size = '20GB'")
	if err != nil {
		return err
	}
	defer p.Close()
	ctx := context.Background()
	c, err := p.Connect(ctx, "postgres")
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	if _, err := c.Exec(ctx, "CREATE DATABASE bench"); err != nil {
		return err
	}
	b, err := p.Connect(ctx, "bench")
	if err != nil {
		return err
	}
	defer b.Close(ctx)
	_, err = b.Exec(ctx, fmt.Sprintf(`CREATE TABLE booking AS SELECT i AS id, 'TS' || to_hex(i * 37::bigint) AS
		reference,
		'Passenger number ' || (i %% 60000) AS passenger, timestamp '2026-03-01' + (i::bigint * 61 %% 20000000) * interval '1 second' AS made_at,
		i::bigint * 7919 %% 90000 AS price, ((i::bigint * 31 %% 100000) / 7.0)::numeric(12,4) AS weight,
		'Cabin ' || (i::bigint * 13 %% 500) || ' on deck ' || (i %% 9) || (ARRAY[', travels with a dog', ', needs a ramp', ', vegetarian meals', ', late arrival'])[1 + i %% 4]
			|| ', paid at ' || (ARRAY['Halsund', 'Ternoy', 'Skerryvoe', 'Gullhaven', 'Brattholm'])[1 + i::bigint * 7 %% 5] || ' counter ' || (i::bigint * 17 %% 23) AS note
		FROM generate_series(1, %d) i;
		ALTER TABLE booking ADD PRIMARY KEY (id)`, rows))
	if err != nil {
		return err
	}
	if _, err := b.Exec(ctx, "VACUUM FREEZE booking"); err != nil {
		return err
	}
	against := func() error {
		_, err := b.PgConn().CopyTo(ctx, io.Discard, "COPY booking TO STDOUT")
		return err
	}
	store := filepath.Join(dir, "keep-postgres")
	if err := duel("full dump, PostgreSQL", 1.12, against, program, p.URL("bench"), store); err != nil {
		return err
	}
	if err := benchCompare("PostgreSQL", program, p.URL("bench"), store, func(first, last int) error {
		_, err := b.Exec(ctx, "UPDATE booking SET price = price + 1 WHERE id BETWEEN $1 AND $2", first, last)
		return err
	}, against); err != nil {
		return err
	}
	if err := benchLog("PostgreSQL", program, p.URL("bench"), store, p.URL(""), rows, loggedPostgres(p, b)); err != nil {
		return err
	}
	if _, err := b.Exec(ctx,
		"CREATE INDEX by_passenger ON booking (passenger); CREATE INDEX by_day ON booking (made_at, price); ALTER "+
			"TABLE booking ADD CHECK (price >= 0)"); err != nil {
		return err
	}
	b.Close(ctx)
	return benchRestore(program, store, dir, p)
}

// benchRestore measures a restore against the interactive client that loads the same
// text on one connection, and then makes the same keys and indexes.
func benchRestore(program, store, dir string, p *testserver.Postgres) error {
	if _, _, err := measured(program, "dump", "--from", p.URL("bench"), "--to", store, "--job", "restore"); err != nil {
		return err
	}
	text := filepath.Join(dir, "all.sql")
	if out, err := exec.Command("sh", "-c",
		"cd "+store+"/restore/bench/*/ && zstd -dcq $(find . -path './[0-9][0-9]-*.zst' | sort) > "+text).
		CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	client := func(database string, args ...string) error {
		cmd := exec.Command("psql", append([]string{"-qX", "-v", "ON_ERROR_STOP=1", "-o", "/dev/null", "-h",
			"127.0.0.1", "-p", fmt.Sprint(p.Port), "-U", testserver.Admin, "-d", database}, args...)...)
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		return nil
	}
	return contest{what: "restore, PostgreSQL", aim: 0.85,
		prepare: func() error {
			return client("postgres", "-c", "DROP DATABASE IF EXISTS theirs", "-c", "DROP DATABASE IF EXISTS ours",
				"-c", "CREATE DATABASE theirs", "-c", "CHECKPOINT")
		},
		against: func() error { return client("theirs", "-f", text) },
		between: func() error { return client("postgres", "-c", "DROP DATABASE theirs", "-c", "CHECKPOINT") },
		own: func(int) []string {
			return []string{"restore", "restore/bench", "--from", store, "--to", p.URL(""), "--as", "ours"}
		},
	}.run(program)
}
