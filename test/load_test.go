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

// TestLedgerUnderLoad moves money all the time; every dump must restore to a
// ledger that sums to zero, with every foreign key valid.
func TestLedgerUnderLoad(t *testing.T) {
	s := needServer(t)
	dir := t.TempDir()
	ctx, stop := context.WithCancel(context.Background())
	var writers sync.WaitGroup
	var moves atomic.Int64
	for w := range 4 {
		c, err := s.Connect(context.Background(), "bookings")
		require.NoError(t, err)
		writers.Go(func() {
			defer c.Close(context.Background())
			for n := 0; ctx.Err() == nil; n++ {
				// A new booking with its two postings, and a correction of the one before.
				_, err := c.Exec(context.Background(), fmt.Sprintf(`BEGIN;
					INSERT INTO booking (sailing_id, passenger_id, price, reference) VALUES (1, 1, %d, 'L%d-%d');
					INSERT INTO posting (booking_id, account_id, amount) VALUES (currval('booking_id_seq'), 1, %d), (currval('booking_id_seq'), 5, -%d);
					UPDATE posting SET amount = amount + CASE account_id WHEN 1 THEN 7 ELSE -7 END WHERE id > currval('posting_id_seq') - 40 AND booking_id = currval('booking_id_seq');
					COMMIT`, n, w, n, n, n))
				time.Sleep(2 * time.Millisecond)
				if err != nil {
					t.Errorf("writer: %v", err)
					return
				}
				moves.Add(1)
			}
		})
	}
	defer func() {
		stop()
		writers.Wait()
		query(t, s, "bookings", "SET session_replication_role = replica; DELETE FROM posting WHERE booking_id IN (SELECT id FROM booking WHERE reference LIKE 'L%'); DELETE FROM booking WHERE reference LIKE 'L%'")
	}()
	last := ""
	for i := range 20 {
		path := lines(run(t, dir, 3, "dump", "--from", s.URL("bookings"), "--to", "keep").stdout)[0]
		name := fmt.Sprint("ledger_", i)
		run(t, dir, 0, "restore", path, "--to", s.URL(""), "--as", name) // exit 3 would be a broken key
		got := query(t, s, name, `SELECT (SELECT sum(amount) FROM posting), (SELECT count(*) FROM posting p LEFT JOIN booking b ON b.id = p.booking_id WHERE b.id IS NULL),
			(SELECT bool_and(convalidated) FROM pg_constraint WHERE contype = 'f'), (SELECT count(*) FROM posting) > 22000`)
		require.Equal(t, "0|0|t|t", got)
		last = query(t, s, name, "SELECT count(*) FROM posting")
		dropDatabases(t, s, name)
	}
	require.Greater(t, moves.Load(), int64(100), "there was load: %s postings in the end", last)
}

// TestStructureChangesUnderTheDump makes, alters, empties, rewrites and drops tables
// all the time. Two tables always hold the same rows, in a transaction each. A dump
// either restores to that, or fails and says why; none waits for ever.
func TestStructureChangesUnderTheDump(t *testing.T) {
	s := needServer(t)
	dropDatabases(t, s, "storm")
	query(t, s, "postgres", "CREATE DATABASE storm")
	defer dropDatabases(t, s, "storm")
	query(t, s, "storm", `CREATE TABLE a AS SELECT i FROM generate_series(1, 3000) i; CREATE TABLE b AS TABLE a; CREATE TABLE kept AS TABLE a; CREATE FUNCTION f() RETURNS int LANGUAGE sql AS 'SELECT 1'; CREATE VIEW v AS SELECT f()`)
	ctx, stop := context.WithCancel(context.Background())
	var workers sync.WaitGroup
	var changes atomic.Int64
	for w, loop := range [][]string{
		{"BEGIN; TRUNCATE a, b; INSERT INTO a SELECT i FROM generate_series(1, 3000) i; INSERT INTO b TABLE a; COMMIT"},
		{"BEGIN; ALTER TABLE a ALTER i TYPE bigint; ALTER TABLE b ALTER i TYPE bigint; COMMIT", "BEGIN; ALTER TABLE a ALTER i TYPE int; ALTER TABLE b ALTER i TYPE int; COMMIT", "VACUUM FULL kept"},
		{"CREATE TABLE passing (x int PRIMARY KEY)", "CREATE INDEX i_passing ON passing (x)", "ALTER TABLE passing RENAME TO passed", "DROP TABLE passed", "CREATE OR REPLACE FUNCTION g() RETURNS int LANGUAGE sql AS 'SELECT 1'", "DROP FUNCTION g"},
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
			require.Regexp(t, `storm was not dumped: .*(a|b|kept|passing|passed|g\(\)).*(rewritten|dropped|renamed|made)|is being changed all the time; just now: .*(a|b|kept|passing|passed|g)`, o.stderr)
			continue
		}
		require.Equal(t, 3, o.code, o.stderr)
		good++
		name := fmt.Sprint("storm_", i)
		run(t, dir, 0, "restore", fmt.Sprintf("j%d/storm", i), "--from", "keep", "--to", s.URL(""), "--as", name)
		require.Equal(t, "3000|3000|3000", query(t, s, name, "SELECT (SELECT count(*) FROM a), (SELECT count(*) FROM b), (SELECT count(*) FROM kept)"))
		dropDatabases(t, s, name)
	}
	require.Positive(t, good, "at least one dump got through")
	require.Greater(t, changes.Load(), int64(50))
}
