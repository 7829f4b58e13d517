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
