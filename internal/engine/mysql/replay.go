package mysql

import (
	"context"
	"database/sql/driver"
	"io"

	sqldriver "github.com/go-sql-driver/mysql"

	"grainkeep/internal/engine"
)

// Replay implements engine.Replayer.
func (s *session) Replay(ctx context.Context, text io.Reader, w engine.Which, seen func(int64)) (engine.Touched,
	error) {
	touched, err := engine.ReplayBatches(text, w, seen, engine.Batches{
		Head: func(sql []byte) error {
			_, err := s.c.exec(ctx, string(sql))
			return err
		},
		Merge: merged,
		Send:  func(sql []byte) ([]int64, error) { return s.c.execEach(ctx, string(sql)) },
	})
	if err == nil { // the session's own settings, for what comes after
		own := settings
		if s.maria {
			own += "SET check_constraint_checks = 1;\n"
		}
		_, err = s.c.exec(ctx, own)
	}
	return touched, err
}

// execEach runs statements, divided by semicolons, and gives the rows that each of them touched.
func (c *conn) execEach(ctx context.Context, sql string) ([]int64, error) {
	res, err := c.c.(driver.ExecerContext).ExecContext(ctx, sql, nil)
	if err != nil {
		return nil, plain(ctx, err)
	}
	return res.(sqldriver.Result).AllRowsAffected(), nil
}
