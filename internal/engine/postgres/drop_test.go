package postgres

import (
	"context"
	"net"
	"os"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/engine"
	"grainkeep/internal/testserver"
)

// TestDropUnderAutovacuum: the account of a drill may not end the worker that is in its scratch database.
func TestDropUnderAutovacuum(t *testing.T) {
	if server == nil {
		t.Skip(testserver.ErrAbsent)
	}
	ctx := context.Background()
	dir, err := os.MkdirTemp("", "grainkeep-engine-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	defer os.RemoveAll(dir)
	own, err := testserver.StartPostgres(dir, "autovacuum_naptime=1s", "autovacuum_vacuum_cost_delay=100ms",
		"autovacuum_vacuum_cost_limit=1")
	require.NoError(t, err)
	defer own.Close()
	require.NoError(t, own.Script(ctx, "postgres", "CREATE ROLE driller LOGIN CREATEDB"))
	require.NoError(t, own.Script(ctx, "postgres", "CREATE DATABASE scratch OWNER driller"))
	require.NoError(t, own.Script(ctx, "scratch",
		"CREATE TABLE crew AS SELECT i FROM generate_series(1, 100000) i; DELETE FROM crew"))
	admin, err := own.Connect(ctx, "postgres")
	require.NoError(t, err)
	defer admin.Close(ctx)
	require.Eventually(t, func() bool {
		var there bool
		err := admin.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_stat_activity "+
			"WHERE backend_type = 'autovacuum worker' AND datname = 'scratch')").Scan(&there)
		return err == nil && there
	}, time.Minute, 20*time.Millisecond)

	src, err := driver{}.Open(ctx, engine.Location{Engine: "postgres", User: "driller",
		Server: net.JoinHostPort("127.0.0.1", strconv.Itoa(own.Port))})
	require.NoError(t, err)
	defer src.Close()
	s := src.(*source)
	require.NoError(t, drop(ctx, s, "scratch", force(s.version)))
	var left int
	require.NoError(t, admin.QueryRow(ctx, "SELECT count(*) FROM pg_database WHERE datname = 'scratch'").Scan(&left))
	require.Zero(t, left)
}
