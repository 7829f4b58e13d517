package postgres

import (
	"context"
	_ "embed"
	"strings"

	"github.com/jackc/pgx/v5"
)

//go:embed might.sql
var mightSQL string

// Might tells what the user could do beyond databases that it makes itself.
func (s *source) Might(ctx context.Context) (string, error) {
	rows, err := s.home.Query(ctx, mightSQL)
	if err != nil {
		return "", err
	}
	list, err := pgx.CollectRows(rows, pgx.RowTo[string])
	return strings.Join(list, ", "), err
}
