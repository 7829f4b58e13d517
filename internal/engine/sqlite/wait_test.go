package sqlite

import (
	"context"
	"errors"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	lib "modernc.org/sqlite/lib"
)

// TestLocksAreWaitedFor: until the lock is free, the wait is over, or whoever waits is to end; whatever it is that waits. (Where a
// statement gave up its wait, the library lets the connection's next one give up at once: so each has one of its own.)
func TestLocksAreWaitedFor(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	open := func(most time.Duration) *conn {
		c, err := openConn(path, lib.SQLITE_OPEN_READWRITE|lib.SQLITE_OPEN_CREATE, most)
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, c.close()) })
		return c
	}
	ctx := context.Background()
	holder := open(0)
	require.NoError(t, holder.exec(ctx, "CREATE TABLE t (a); INSERT INTO t VALUES (1); BEGIN EXCLUSIVE"))

	require.True(t, is(open(20*time.Millisecond).exec(ctx, "DELETE FROM t"), lib.SQLITE_BUSY))
	enough := errors.New("enough")
	for name, wait := range map[string]func(context.Context, *conn) error{
		"a statement": func(ctx context.Context, c *conn) error { return c.exec(ctx, "DELETE FROM t") },
		"a query":     func(ctx context.Context, c *conn) error { _, err := c.value(ctx, "SELECT a FROM t"); return err },
		"a beginning": func(ctx context.Context, c *conn) error { return c.exec(ctx, "BEGIN IMMEDIATE") },
	} {
		ended, end := context.WithCancelCause(ctx)
		time.AfterFunc(20*time.Millisecond, func() { end(enough) })
		require.Equal(t, enough, wait(ended, open(time.Hour)), name)
	}
	free := make(chan error, 1)
	time.AfterFunc(50*time.Millisecond, func() { free <- holder.exec(ctx, "COMMIT") })
	got, err := open(time.Hour).value(ctx, "SELECT a FROM t")
	require.NoError(t, err)
	require.Equal(t, "1", got)
	require.NoError(t, <-free)
}
