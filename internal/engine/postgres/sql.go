package postgres

import (
	"context"
	"database/sql"

	"github.com/jackc/pgx/v5/stdlib"

	"grainkeep/internal/engine"
)

// OpenSQL implements engine.SQLOpener.
func (driver) OpenSQL(ctx context.Context, at engine.Location) (*sql.DB, error) {
	s := &source{at: at}
	cfg, err := s.config(at.Database)
	if err != nil {
		return nil, err
	}
	db := stdlib.OpenDB(*cfg)
	db.SetMaxOpenConns(4)
	if err := db.PingContext(ctx); err != nil {
		db.Close()
		return nil, s.explainLogin(ctx, at.Database, err)
	}
	return db, nil
}
