package postgres

import (
	"bytes"
	"context"
	"io"

	"grainkeep/internal/engine"
)

// Replay implements engine.Replayer.
func (s *session) Replay(ctx context.Context, text io.Reader, w engine.Which, seen func(int64)) (engine.Touched,
	error) {
	return engine.ReplayBatches(text, w, seen, engine.Batches{
		Only: changedTable,
		Head: func(sql []byte) error { return s.Exec(ctx, string(sql)) },
		Send: func(sql []byte) ([]int64, error) {
			results, err := s.c.PgConn().Exec(ctx, string(sql)).ReadAll()
			if err != nil {
				return nil, plain(ctx, s.c, err)
			}
			touched := make([]int64, len(results))
			for i, r := range results {
				touched[i] = r.CommandTag.RowsAffected()
			}
			return touched, nil
		},
	})
}

// changedTable is the ID of the table that a statement changes: up to the first blank outside of quotes.
func changedTable(sql []byte) string {
	for _, head := range []string{"INSERT INTO ", "UPDATE ONLY ", "DELETE FROM ONLY "} {
		rest, is := bytes.CutPrefix(sql, []byte(head))
		if !is {
			continue
		}
		open := false
		for i, c := range rest {
			switch {
			case c == '"':
				open = !open
			case c == ' ' && !open:
				return string(rest[:i])
			}
		}
	}
	return ""
}
