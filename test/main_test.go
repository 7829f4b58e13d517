// Package test runs the built program as its users do: on files in temporary
// folders, against private servers.
package test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"grainkeep/internal/demo"
	"grainkeep/internal/testserver"
)

const (
	patience = 10 * time.Second
	tick     = 5 * time.Millisecond
)

var (
	program string
	server  *testserver.Postgres // shared; nil where there is none
	absent  error                // why there is none
	maria   *testserver.MySQL
	noMaria error
	mysql   *testserver.MySQL
	noMySQL error
)

func TestMain(m *testing.M) {
	if st, err := os.Stat("/dev/shm"); err == nil && st.IsDir() && os.Getenv("TMPDIR") == "" {
		os.Setenv("TMPDIR", "/dev/shm") // syncing costs nothing there
	}
	// The client on the path is a script that looks for it.
	if found, err := filepath.Glob("/usr/lib/postgresql/*/bin/psql"); err == nil && len(found) > 0 {
		os.Setenv("PATH", filepath.Dir(found[len(found)-1])+":"+os.Getenv("PATH"))
	}
	dir, err := os.MkdirTemp("", "grainkeep-test-")
	if err == nil {
		err = os.Chmod(dir, 0o755) // the server's own user must get through
	}
	if err == nil {
		program = filepath.Join(dir, "grainkeep")
		build := exec.Command("go", "build", "-o", program, "../cmd/grainkeep")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		build.Stderr = os.Stderr
		err = build.Run()
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	if server, absent = testserver.StartPostgres(dir); absent == nil {
		absent = demo.LoadServer(context.Background(), server.Script, "postgres", "", 1)
	}
	if maria, noMaria = testserver.StartMariaDB(dir); noMaria == nil {
		noMaria = demo.LoadServer(context.Background(), maria.Script, "mysql", "", 1)
	}
	if mysql, noMySQL = testserver.StartMySQL(dir); noMySQL == nil {
		noMySQL = demo.LoadServer(context.Background(), mysql.Script, "mysql", "", 1)
	}
	code := m.Run()
	if server != nil {
		server.Close()
	}
	for _, m := range []*testserver.MySQL{maria, mysql} {
		if m != nil {
			m.Close()
		}
	}
	os.RemoveAll(dir)
	os.Exit(code)
}

// needServer skips where no server can be had; scripts/test fails on such a skip.
func needServer(t *testing.T) *testserver.Postgres {
	t.Helper()
	if absent != nil {
		t.Skip("no PostgreSQL: ", absent)
	}
	return server
}

// outcome is what a run of the program left behind.
type outcome struct {
	stdout, stderr string
	code           int
}

// command prepares a run in a folder, with a clean environment.
func command(dir string, args ...string) (*exec.Cmd, *outcome, func() *outcome) {
	cmd := exec.Command(program, args...)
	cmd.Dir = dir
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + dir, "TZ=UTC"}
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	o := &outcome{}
	return cmd, o, func() *outcome {
		cmd.Wait()
		o.stdout, o.stderr, o.code = stdout.String(), stderr.String(), cmd.ProcessState.ExitCode()
		return o
	}
}

// run runs the program and expects an exit code; any that is not a failure, if it is -1.
func run(t *testing.T, dir string, code int, args ...string) *outcome {
	t.Helper()
	cmd, _, wait := command(dir, args...)
	require.NoError(t, cmd.Start())
	o := wait()
	if code == -1 {
		require.Contains(t, []int{0, 3}, o.code, "%q\n%s%s", args, o.stdout, o.stderr)
		return o
	}
	require.Equal(t, code, o.code, "%q\n%s%s", args, o.stdout, o.stderr)
	return o
}

// result runs the program with --json and decodes the envelope.
func result(t *testing.T, dir string, code int, args ...string) map[string]any {
	t.Helper()
	o := run(t, dir, code, append([]string{"--json"}, args...)...)
	var v map[string]any
	require.NoError(t, json.Unmarshal([]byte(o.stdout), &v), o.stdout)
	require.EqualValues(t, 1, v["grainkeep"])
	require.EqualValues(t, code, v["exit"])
	require.Equal(t, 1, strings.Count(o.stdout, "\n"), "one object, one line")
	return v
}

func sh(t *testing.T, dir, script string, env ...string) string {
	t.Helper()
	cmd := exec.Command("sh", "-e", "-c", script)
	cmd.Dir = dir
	cmd.Env = append(append(os.Environ(), "PGPASSFILE=/nonexistent"), env...)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s\n%.9000s", script, out)
	return string(out)
}

// query asks the server as its superuser; rows of values joined by "|".
func query(t *testing.T, s *testserver.Postgres, database, sql string) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	c, err := s.Connect(ctx, database)
	require.NoError(t, err)
	defer c.Close(ctx)
	return ask(t, c, sql)
}

func ask(t *testing.T, c *pgx.Conn, sql string) string {
	t.Helper()
	results, err := c.PgConn().Exec(context.Background(), sql).ReadAll()
	require.NoError(t, err, "%.200s", sql)
	var lines []string
	for _, r := range results {
		for _, row := range r.Rows {
			lines = append(lines, string(bytes.Join(row, []byte("|"))))
		}
	}
	return strings.Join(lines, "\n")
}

// lines splits what a command printed.
func lines(s string) []string { return strings.Split(strings.TrimSuffix(s, "\n"), "\n") }

// sameLines shows only what differs.
func sameLines(t *testing.T, want, got []string) {
	t.Helper()
	count := map[string]int{}
	for _, l := range want {
		count[l]++
	}
	for _, l := range got {
		count[l]--
	}
	for l, n := range count {
		if n > 0 {
			t.Errorf("missing: %.400s", l)
		} else if n < 0 {
			t.Errorf("added:   %.400s", l)
		}
	}
	require.False(t, t.Failed())
}
