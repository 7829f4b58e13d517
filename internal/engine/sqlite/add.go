package sqlite

import (
	"context"
	"errors"
	"path/filepath"

	lib "modernc.org/sqlite/lib"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// addTarget is a file in use that gets some tables, in one transaction: all of them are there at
// once, or none. Its writers wait meanwhile.
type addTarget struct {
	s    *source
	spec engine.TargetSpec
	c    *conn
}

func (s *source) add(ctx context.Context, spec engine.TargetSpec) (engine.Target, error) {
	c, err := openConn(filepath.Join(s.folder, spec.Name), lib.SQLITE_OPEN_READWRITE, s.at.LockWait)
	if err == nil {
		if err = c.exec(ctx, settings+"BEGIN IMMEDIATE;"); err != nil {
			err = errors.Join(explain(spec.Name, err), c.close())
		}
	}
	if err != nil {
		return nil, err
	}
	return &addTarget{s, spec, c}, nil
}

func (t *addTarget) Width() (rows, after int)                            { return 1, 1 }
func (t *addTarget) Session(context.Context) (engine.Session, error)     { return &session{t.c}, nil }
func (t *addTarget) Settings() []string                                  { return []string{"one transaction"} }
func (t *addTarget) Missing(context.Context, []string) ([]string, error) { return nil, nil }

// Snapshot is for drills, which make a file of their own.
func (t *addTarget) Snapshot(context.Context) (engine.Snapshot, error) {
	return nil, fault.New("add-unread", nil, "what is added to %s is not read back", t.spec.Name)
}

// Finish ends the transaction.
func (t *addTarget) Finish(ctx context.Context) (string, error) {
	return "", errors.Join(t.c.exec(ctx, "COMMIT;"), t.c.close())
}

// Discard takes everything back.
func (t *addTarget) Discard(ctx context.Context) error {
	return errors.Join(t.c.exec(ctx, "ROLLBACK;"), t.c.close())
}
