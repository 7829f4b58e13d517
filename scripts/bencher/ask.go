package main

import (
	"fmt"
	"path/filepath"
)

// benchAsk measures questions against reading the same text by stock programs, and making its digest: about 100 MB.
func benchAsk(program, dir string, rows int) error {
	from, big := filepath.Join(dir, "from"), filepath.Join(dir, "big.db")
	if err := sqlite(big, fmt.Sprintf("CREATE TABLE passenger (id INTEGER PRIMARY KEY, booking INT, name TEXT, mail TEXT, note TEXT, paid REAL); "+
		"WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d) INSERT INTO passenger SELECT i, i * 7 %% 100000, "+
		"'Passenger ' || i, 'p' || i || '@ternskerry.example', hex(randomblob(25)), i %% 1000 + 0.25 FROM n", rows)); err != nil {
		return err
	}
	if _, _, err := measured(program, "dump", "--from", big, "--to", from, "--job", "ask"); err != nil {
		return err
	}
	for _, q := range []struct{ what, sql string }{
		{"some rows", "SELECT * FROM passenger WHERE booking = 77"}, {"a count", "SELECT count(*) FROM passenger"},
		{"sums by groups", "SELECT booking, sum(paid) FROM passenger GROUP BY booking ORDER BY 2 DESC LIMIT 5"},
		{"all columns", "SELECT max(name), max(mail), max(note), max(paid), max(booking) FROM passenger"},
	} {
		err := contest{what: "ask: " + q.what, aim: 3, own: func(int) []string { return []string{"ask", "ask/big.db", "--from", from, q.sql} },
			against: func() error { return shell("cat " + from + "/ask/big.db/*/20-data/*/part* | zstd -dc | sha256sum") }}.run(program)
		if err != nil {
			return err
		}
	}
	return nil
}
