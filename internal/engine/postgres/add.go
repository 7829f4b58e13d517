package postgres

import (
	"context"

	"grainkeep/internal/engine"
)

// addTarget is a database in use that gets some tables: in one transaction of one session, so that
// all of them are there at once, or none.
type addTarget struct {
	target
}

// add begins the transaction.
func (s *source) add(ctx context.Context, spec engine.TargetSpec) (engine.Target, error) {
	t := &addTarget{target{s: s, spec: spec, work: spec.Name}}
	c, err := s.connect(ctx, t.work)
	if err != nil {
		return nil, err
	}
	if _, err := c.Exec(ctx, fast+"BEGIN"); err != nil {
		closeConn(c)
		return nil, err
	}
	t.in = c
	return t, nil
}

// Width is one: nobody else sees what the transaction has made.
func (t *addTarget) Width() (rows, after int) { return 1, 1 }

// Session lends the one session; a caller has it to itself.
func (t *addTarget) Session(context.Context) (engine.Session, error) {
	return &addSession{session{t.in}}, nil
}

// Finish ends the transaction.
func (t *addTarget) Finish(ctx context.Context) (string, error) {
	_, err := t.in.Exec(ctx, "COMMIT")
	t.out()
	return "", err
}

// Discard takes everything back.
func (t *addTarget) Discard(context.Context) error {
	t.out()
	return nil
}

// addSession keeps the transaction alive where a statement fails.
type addSession struct{ session }

// Close leaves the session to the target.
func (s *addSession) Close() error { return nil }

// Exec runs one object's statements, all or none of them.
func (s *addSession) Exec(ctx context.Context, sql string) error {
	if _, err := s.c.Exec(ctx, "SAVEPOINT one"); err != nil {
		return plain(ctx, s.c, err)
	}
	if err := s.session.Exec(ctx, sql); err != nil {
		if _, e := s.c.Exec(ctx, "ROLLBACK TO one"); e != nil {
			return plain(ctx, s.c, e)
		}
		return err
	}
	_, err := s.c.Exec(ctx, "RELEASE one")
	return plain(ctx, s.c, err)
}
