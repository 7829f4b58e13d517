package main

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"

	"grainkeep/internal/testserver"
)

func benchMariaDB(program, dir string, rows int) error {
	return benchMaria("MariaDB", testserver.StartMariaDB, program, dir, rows)
}

func benchMySQL(program, dir string, rows int) error {
	return benchMaria("MySQL", testserver.StartMySQL, program, dir, rows)
}

// benchMaria measures a dump against the interactive client that streams the same
// rows, and a restore against the client's bulk load of them.
func benchMaria(product string, start func(string, ...string) (*testserver.MySQL, error), program, dir string,
	rows int) error {
	m, err := start(dir, "--innodb-buffer-pool-size=1G", "--local-infile=1", "--secure-file-priv=",
		"--max-binlog-size=1G", "--binlog-format=ROW")
	if err != nil {
		return err
	}
	defer m.Close()
	ctx := context.Background()
	run := func(database, sql string) error { return m.Script(ctx, database, sql) }
	if err := run("", "CREATE DATABASE bench CHARACTER SET utf8mb4"); err != nil {
		return err
	}
	err = run("bench", fmt.Sprintf(`CREATE TABLE booking (id int PRIMARY KEY, reference varchar(12), passenger
		varchar(40), made_at datetime, price bigint, weight decimal(12,4), note varchar(120));
		SET %s = 100000000; INSERT INTO booking SELECT seq, concat('TS', hex(seq * 37)), concat('Passenger number ', seq %% 60000),
			'2026-03-01' + INTERVAL (seq * 61 %% 20000000) SECOND, seq * 7919 %% 90000, (seq * 31 %% 100000) / 7,
		concat('Cabin ', seq * 13 %% 500, ' on deck ', seq %% 9, elt(1 + seq %% 4, ', travels with a dog', ', needs a ramp', ', vegetarian meals', ', late arrival'),
			', paid at ', elt(1 + seq * 7 %% 5, 'Halsund', 'Ternoy', 'Skerryvoe', 'Gullhaven', 'Brattholm'),
				' counter ', seq * 17 %% 23) FROM (WITH RECURSIVE n (seq) AS (SELECT 1 UNION ALL SELECT seq + 1 FROM n WHERE
				seq < %d) SELECT seq FROM n) s`, map[bool]string{true: "max_recursive_iterations", false: "cte_max_recursion_depth"}[m.Maria],
		rows))
	if err != nil {
		return err
	}
	client := func(database, sql string) error {
		words := append(m.Client(), "--quick", "--local-infile", "-e", sql, database)
		var out bytes.Buffer
		cmd := exec.Command(words[0], words[1:]...)
		cmd.Stderr = &out
		if err := cmd.Run(); err != nil { // its standard output is the null device
			return fmt.Errorf("%w: %s", err, out.String())
		}
		return nil
	}
	store := filepath.Join(dir, "keep-"+product)
	against := func() error { return client("bench", "SELECT * FROM booking") }
	if err := duel("full dump, "+product, 0.95, against, program, m.URL("bench"), store); err != nil {
		return err
	}
	if err := benchCompare(product, program, m.URL("bench"), store, func(first, last int) error {
		return run("bench", fmt.Sprintf("UPDATE booking SET price = price + 1 WHERE id BETWEEN %d AND %d", first, last))
	}, against); err != nil {
		return err
	}
	if err := benchLog(product, program, m.URL("bench"), store, m.URL(""), rows, loggedMySQL(m)); err != nil {
		return err
	}
	const keys = "ALTER TABLE booking ADD KEY by_passenger (passenger), ADD KEY by_day (made_at, price)"
	if err := run("bench", keys); err != nil {
		return err
	}
	if _, _, err := measured(program, "dump", "--from", m.URL("bench"), "--to", store, "--job", "restore"); err != nil {
		return err
	}
	text := m.Inside(filepath.Join(m.Folder, "rows.txt"))
	if err := run("bench", "SELECT * FROM booking INTO OUTFILE '"+text+"' CHARACTER SET utf8mb4"); err != nil {
		return err
	}
	if err := os.Chmod(filepath.Join(m.Folder, "rows.txt"), 0o644); err != nil {
		return err
	}
	return contest{what: "restore, " + product, aim: 0.85,
		prepare: func() error {
			return run("",
				"DROP DATABASE IF EXISTS ours; DROP DATABASE IF EXISTS theirs; CREATE DATABASE theirs CHARACTER "+
					"SET utf8mb4; CREATE TABLE theirs.booking LIKE bench.booking; ALTER TABLE theirs.booking DROP KEY "+
					"by_passenger, DROP KEY by_day")
		},
		against: func() error {
			return client("theirs", "LOAD DATA LOCAL INFILE '"+text+"' INTO TABLE booking CHARACTER SET utf8mb4; "+keys)
		},
		own: func(int) []string {
			return []string{"restore", "restore/bench", "--from", store, "--to", m.URL(""), "--as", "ours"}
		},
	}.run(program)
}
