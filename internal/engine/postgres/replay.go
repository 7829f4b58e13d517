package postgres

import (
	"context"
	"io"

	"grainkeep/internal/engine"
)

// Replay implements engine.Replayer.
func (s *session) Replay(ctx context.Context, text io.Reader, w engine.Which, seen func(int64)) (engine.Touched,
	error) {
	return engine.ReplayBatches(text, w, seen, engine.Batches{
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
