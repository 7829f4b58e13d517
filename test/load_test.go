package test

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestLedgerUnderLoad moves money all the time; every dump must restore to a ledger
// that sums to zero, with no posting without its booking.
func TestLedgerUnderLoad(t *testing.T) {
	for _, p := range everyEngine(t) {
		t.Run(p.product, func(t *testing.T) { ledger(t, p) })
	}
}

func ledger(t *testing.T, p *place) {
	p.need(t)
	ctx, stop := context.WithCancel(context.Background())
	var writers sync.WaitGroup
	var moves atomic.Int64
	begin := map[string]string{"postgres": "BEGIN;", "mysql": "START TRANSACTION;",
		"sqlite": "BEGIN IMMEDIATE;"}[p.engine]
	for w := range 3 {
		writers.Go(func() {
			for n := 0; ctx.Err() == nil; n++ {
				// A new booking with its two postings, and a correction of them.
				of := fmt.Sprintf("FROM booking WHERE reference = 'L%d-%d'", w, n)
				p.run("bookings", fmt.Sprintf(`%s INSERT INTO booking (reference, sailing_id, passenger_id, made_at,
					seats, price) VALUES ('L%d-%d', 1, 1, '2026-10-27 18:00:00', 1, %d);
					INSERT INTO posting (booking_id, account_id, amount) SELECT id, 1, %d %s UNION ALL SELECT id, 5,
						-%d %s;
					UPDATE posting SET amount = amount + CASE account_id WHEN 1 THEN 7 ELSE -7 END WHERE booking_id
						= (SELECT id %s); COMMIT`, begin, w, n, n, n, of, n, of, of))
				moves.Add(1)
				time.Sleep(2 * time.Millisecond)
			}
		})
	}
	defer func() {
		stop()
		writers.Wait()
		p.run("bookings",
			"DELETE FROM posting WHERE booking_id IN (SELECT id FROM booking WHERE reference LIKE 'L%'); DELETE "+
				"FROM booking WHERE reference LIKE 'L%'")
	}()
	dir := t.TempDir()
	for range 4 {
		path := lines(run(t, dir, -1, "dump", "--from", p.url("bookings"), "--to", "keep").stdout)[0]
		run(t, dir, 0, "restore", path, "--to", p.url(""), "--as", p.name("ledger")) // exit 3 would be a broken key
		require.Equal(t, "0|0", p.ask("ledger",
			"SELECT (SELECT sum(amount) FROM posting), (SELECT count(*) FROM posting p LEFT JOIN booking b ON "+
				"b.id = p.booking_id WHERE b.id IS NULL)"))
		p.drop("ledger")
	}
	require.Greater(t, moves.Load(), int64(30), "there was load")
}

// TestStructureChangesUnderTheDump makes, alters, empties, rewrites and drops tables
// all the time. Two tables always hold the same rows, in a transaction each. A dump
// either restores to that, or fails and says why; none waits for ever.
func TestStructureChangesUnderTheDump(t *testing.T) {
	s := needServer(t)
	dropDatabases(t, s, "storm")
	query(t, s, "postgres", "CREATE DATABASE storm")
	defer dropDatabases(t, s, "storm")
	query(t, s, "storm",
		`CREATE TABLE a AS SELECT i FROM generate_series(1, 3000) i; CREATE TABLE b AS TABLE a; CREATE TABLE kept AS
			TABLE a; CREATE FUNCTION f() RETURNS int LANGUAGE sql AS 'SELECT 1'; CREATE VIEW v AS SELECT f()`)
	ctx, stop := context.WithCancel(context.Background())
	var workers sync.WaitGroup
	var changes atomic.Int64
	for w, loop := range [][]string{
		{"BEGIN; TRUNCATE a, b; INSERT INTO a SELECT i FROM generate_series(1, 3000) i; INSERT INTO b TABLE a; COMMIT"},
		{"BEGIN; ALTER TABLE a ALTER i TYPE bigint; ALTER TABLE b ALTER i TYPE bigint; COMMIT",
			"BEGIN; ALTER TABLE a ALTER i TYPE int; ALTER TABLE b ALTER i TYPE int; COMMIT", "VACUUM FULL kept"},
		{"CREATE TABLE passing (x int PRIMARY KEY)", "CREATE INDEX i_passing ON passing (x)",
			"ALTER TABLE passing RENAME TO passed", "DROP TABLE passed",
			"CREATE OR REPLACE FUNCTION g() RETURNS int LANGUAGE sql AS 'SELECT 1'", "DROP FUNCTION g"},
	} {
		c, err := s.Connect(context.Background(), "storm")
		require.NoError(t, err)
		workers.Go(func() {
			defer c.Close(context.Background())
			for ctx.Err() == nil {
				for _, sql := range loop {
					if _, err := c.Exec(context.Background(), sql); err != nil {
						t.Logf("worker %d: %v", w, err) // a deadlock between the workers is their own affair
						c.Exec(context.Background(), "ROLLBACK")
					}
					changes.Add(1)
					time.Sleep(5 * time.Millisecond)
				}
			}
		})
	}
	defer func() { stop(); workers.Wait() }()
	dir := t.TempDir()
	good := 0
	for i := range 12 {
		cmd, _, wait := command(dir, "dump", "--from", s.URL("storm"), "--to", "keep", "--job", fmt.Sprint("j", i))
		require.NoError(t, cmd.Start())
		o := wait()
		if o.code == 1 {
			require.Regexp(t,
				`storm was not dumped: .*(a|b|kept|passing|passed|g\(\)).*(rewritten|dropped|renamed|made)|`+
					`is being changed all the time; just now: .*(a|b|kept|passing|passed|g)`, o.stderr)
			continue
		}
		require.Equal(t, 3, o.code, o.stderr)
		good++
		name := fmt.Sprint("storm_", i)
		run(t, dir, 0, "restore", fmt.Sprintf("j%d/storm", i), "--from", "keep", "--to", s.URL(""), "--as", name)
		require.Equal(t, "3000|3000|3000", query(t, s, name,
			"SELECT (SELECT count(*) FROM a), (SELECT count(*) FROM b), (SELECT count(*) FROM kept)"))
		dropDatabases(t, s, name)
	}
	require.Positive(t, good, "at least one dump got through")
	require.Greater(t, changes.Load(), int64(50))
}
