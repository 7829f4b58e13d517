package main

import (
	"fmt"
	"strings"
	"time"
)

// benchLog measures an increment from the server's log, of a table of which some rows changed that lie scattered,
// against a full of it; a large transaction; and a replay of transactions of one row.
func benchLog(what, program, from, store, to string, rows int, log logged) error {
	if !strings.HasPrefix("log", part) {
		return nil
	}
	dump := []string{"dump", "--from", from, "--to", store, "--job", "log", "--changes", "log", "--kind"}
	full := append(dump[:len(dump):len(dump)], "full", "--new-baseline")
	if _, _, err := measured(program, full...); err != nil {
		return err
	}
	increment := append(dump[:len(dump):len(dump)], "incremental")
	round := 0
	err := contest{what: "log increment, " + what, aim: 0.05,
		prepare: func() error {
			round++
			return log.run(fmt.Sprintf("UPDATE booking SET price = price + 1 WHERE id %% %d = %d", max(1, rows/changedRows), round))
		},
		against: func() error {
			_, _, err := measured(program, "dump", "--from", from, "--to", store, "--job", "beside")
			return err
		},
		own: func(int) []string { return increment },
	}.run(program)
	if err != nil {
		return err
	}
	if err := log.mark(); err != nil {
		return err
	}
	if err := log.run("UPDATE booking SET price = price + 1"); err != nil {
		return err
	}
	began := time.Now()
	if err := log.drain(); err != nil {
		return err
	}
	other := time.Since(began)
	took, memory, err := measured(program, increment...)
	if err != nil {
		return err
	}
	fmt.Printf("%-22s one transaction of %d rows: %.1f s, a reader that throws it away %.1f s: ratio %.2f (aim: at most "+
		"1.50); memory %d MiB (aim: at most 96)\n", "", rows, took.Seconds(), other.Seconds(), took.Seconds()/other.Seconds(),
		memory)
	return benchReplay(what, program, from, store, to, log.run)
}

// replayed is how many transactions of one row are replayed.
const replayed = 40_000

// benchReplay measures a restore with many transactions against one without.
func benchReplay(what, program, from, store, to string, run func(sql string) error) error {
	if err := run("CREATE TABLE small (id int PRIMARY KEY, v int)"); err != nil {
		return err
	}
	dump := []string{"dump", "--from", from, "--to", store, "--job", "replay", "--changes", "log", "--kind"}
	if _, _, err := measured(program, append(dump[:len(dump):len(dump)], "full", "--new-baseline")...); err != nil {
		return err
	}
	restore := func(name string) (time.Duration, error) {
		took, _, err := measured(program, "restore", "replay/bench", "--from", store, "--to", to, "--as", name, "--only",
			"small")
		return took, err
	}
	without, err := restore("without")
	if err != nil {
		return err
	}
	for i := range replayed / 2 { // by turns, so that the rows cannot be inserted many at one time
		if err := run(fmt.Sprintf("INSERT INTO small VALUES (%d, 1)", i)); err != nil {
			return err
		}
		if err := run(fmt.Sprintf("UPDATE small SET v = 2 WHERE id = %d", i)); err != nil {
			return err
		}
	}
	if _, _, err := measured(program, append(dump, "incremental")...); err != nil {
		return err
	}
	with, err := restore("with_them")
	if err != nil {
		return err
	}
	fmt.Printf("%-22s replay: %.0f rows a second, in transactions of one row (aim: at least 20,000)\n", "",
		replayed/(with-without).Seconds())
	return nil
}
