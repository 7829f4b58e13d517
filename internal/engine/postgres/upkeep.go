package postgres

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// The mark of a database that is kept up stands in a table of a schema of its own.
const upkeepMark = "grainkeep_standby.mark"

// HeldBack implements engine.Upkeeper.
func (s *source) HeldBack() []string {
	return []string{"foreign key", "foreign key state", "trigger", "triggers off", "triggers on", "rule"}
}

// MarkSQL implements engine.Upkeeper.
func (s *source) MarkSQL(mark string) []string {
	return []string{"CREATE SCHEMA grainkeep_standby", "CREATE TABLE " + upkeepMark + " AS SELECT " + literal(mark) + "::text AS dump"}
}

// Marked implements engine.Upkeeper.
func (s *source) Marked(ctx context.Context, database string) (mark string, err error) {
	there, err := s.has(ctx, database)
	if err != nil || !there {
		return "", err
	}
	c, err := s.connect(ctx, database)
	if err != nil {
		return "", err
	}
	defer closeConn(c)
	mark, err = markIn(ctx, c, "")
	return mark, plain(ctx, c, err)
}

// markIn reads the mark; empty: there is none.
func markIn(ctx context.Context, c *pgx.Conn, lock string) (mark string, err error) {
	err = c.QueryRow(ctx, "SELECT dump FROM "+upkeepMark+lock).Scan(&mark)
	var pg *pgconn.PgError
	if errors.As(err, &pg) && (pg.Code == "42P01" || pg.Code == "3F000") || errors.Is(err, pgx.ErrNoRows) {
		return "", nil
	}
	return mark, err
}

// upkeepSession is a session in whose transaction a database is brought onward.
type upkeepSession struct{ session }

// Onward implements engine.Upkeeper.
func (s *source) Onward(ctx context.Context, database, mark string) (engine.UpkeepSession, error) {
	c, err := s.connect(ctx, database)
	if err != nil {
		return nil, err
	}
	if err := s.begin(ctx, c, database, mark); err != nil {
		err = plain(ctx, c, err) // before the connection is closed, or it is taken for lost
		closeConn(c)
		return nil, err
	}
	return &upkeepSession{session{c}}, nil
}

// begin locks the mark's row: whoever waited for it finds another mark.
func (s *source) begin(ctx context.Context, c *pgx.Conn, database, mark string) error {
	_, err := c.Exec(ctx, settings+fast+"BEGIN READ WRITE; "+s.lockTimeout())
	if err != nil {
		return err
	}
	is, err := markIn(ctx, c, " FOR UPDATE")
	var pg *pgconn.PgError
	switch {
	case errors.As(err, &pg) && pg.Code == "55P03":
		return engine.Contended(database, s.at.LockWait)
	case err != nil:
		return err
	case is != mark:
		return fault.New(engine.MarkDiffers, nil, "the database %s is not at the dump that it was thought to be", database)
	}
	_, err = c.Exec(ctx, "SET LOCAL lock_timeout = 0")
	return err
}

// Commit implements engine.UpkeepSession.
func (u *upkeepSession) Commit(ctx context.Context, mark string) error {
	_, err := u.c.Exec(ctx, "UPDATE "+upkeepMark+" SET dump = $1", mark)
	if err == nil {
		_, err = u.c.Exec(ctx, "COMMIT")
	}
	return plain(ctx, u.c, err)
}

// Release implements engine.Upkeeper.
func (s *source) Release(ctx context.Context, database string) error {
	c, err := s.connect(ctx, database)
	if err != nil {
		return err
	}
	defer closeConn(c)
	_, err = c.Exec(ctx, "SET default_transaction_read_only = off; ALTER DATABASE "+quote(database)+" RESET default_transaction_read_only; "+
		"DROP SCHEMA IF EXISTS grainkeep_standby CASCADE")
	return plain(ctx, c, err)
}

// Readable implements engine.Upkeeper: sessions begin read-only.
func (s *source) Readable(context.Context, string) (string, error) { return "", nil }
