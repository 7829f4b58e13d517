package test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// away is a store on another machine.
type away struct {
	url  string // of the keep
	path string // where its files lie
	env  []string
}

// eachStore runs a test with a keep in an SFTP server, and with one in an object store.
func eachStore(t *testing.T, test func(t *testing.T, a away)) {
	t.Run("SFTP", func(t *testing.T) {
		t.Parallel()
		s, err := testserver.StartSSH(ownFolder(t))
		if errors.Is(err, testserver.ErrAbsent) {
			t.Skip(err)
		}
		require.NoError(t, err)
		t.Cleanup(func() { s.Close() })
		path := filepath.Join(t.TempDir(), "keep")
		test(t, away{url: s.URL(path), path: path})
	})
	t.Run("S3", func(t *testing.T) {
		t.Parallel()
		s, err := testserver.StartS3(ownFolder(t))
		if errors.Is(err, testserver.ErrAbsent) {
			t.Skip(err)
		}
		require.NoError(t, err)
		t.Cleanup(func() { s.Close() })
		test(t, away{url: s.URL("barn", "dumps"), path: s.Path("barn", "dumps"),
			env: []string{"AWS_ACCESS_KEY_ID=" + testserver.S3User, "AWS_SECRET_ACCESS_KEY=" + testserver.S3Secret}})
	})
}

// run runs the program with what the store needs in its environment.
func (a away) run(t *testing.T, dir string, code int, args ...string) *outcome {
	t.Helper()
	cmd, _, wait := command(dir, args...)
	cmd.Env = append(cmd.Env, a.env...)
	require.NoError(t, cmd.Start())
	o := wait()
	if code == -1 {
		require.Contains(t, []int{0, 3}, o.code, "%q\n%s%s", args, o.stdout, o.stderr)
	} else {
		require.Equal(t, code, o.code, "%q\n%s%s", args, o.stdout, o.stderr)
	}
	return o
}

// TestKeepsAway: the whole work on a keep that lies in a store on another machine.
func TestKeepsAway(t *testing.T) {
	eachStore(t, func(t *testing.T, a away) {
		dir := t.TempDir()
		sh(t, dir, "sqlite3 app.db \"CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t SELECT value, "+
			"hex(randomblob(20)) FROM generate_series(1, 20000)\"")
		dump := []string{"dump", "--from", "./app.db", "--to", a.url, "--kind"}
		o := a.run(t, dir, -1, append(dump, "full", "--new-baseline")...)
		require.Contains(t, o.stderr, "created the keep")
		path := lines(o.stdout)[0]
		for n := range 3 {
			time.Sleep(time.Second)
			sh(t, dir, fmt.Sprintf("sqlite3 app.db \"UPDATE t SET v = 'changed' WHERE id = %d\"", n+7))
			a.run(t, dir, -1, append(dump, "incremental")...)
		}
		require.Contains(t, a.run(t, dir, 0, "list", "--from", a.url, "--all").stdout, "incremental")
		a.run(t, dir, 0, "show", "adhoc/app.db", "--from", a.url)
		a.run(t, dir, 0, "verify", "adhoc/app.db", "--from", a.url)
		require.NoError(t, os.Mkdir(filepath.Join(dir, "out"), 0o700))
		a.run(t, dir, 0, "drill", "adhoc/app.db", "--from", a.url, "--to", filepath.Join(dir, "out"))
		a.run(t, dir, 0, "restore", "adhoc/app.db", "--from", a.url, "--to", dir, "--as", "back.db")
		require.Equal(t, sh(t, dir, "sqlite3 app.db 'SELECT * FROM t'"), sh(t, dir, "sqlite3 back.db 'SELECT * FROM t'"))
		if !strings.HasPrefix(path, "sftp") { // whose key stands in no output
			a.run(t, dir, 0, "restore", path, "--to", dir, "--as", "full.db")
		}

		// The folders are as in any keep: a copy of it is one.
		sh(t, dir, "cp -r "+a.path+" copied && rm -rf copied/.work")
		run(t, dir, 0, "verify", "adhoc/app.db", "--from", "copied")

		// Damage is found, and what is removed is gone with its files.
		parts, err := filepath.Glob(filepath.Join(a.path, "adhoc/app.db/*-incremental/40-changes/*/*.zst"))
		require.NoError(t, err)
		require.NotEmpty(t, parts)
		text, err := os.ReadFile(parts[len(parts)-1])
		require.NoError(t, err)
		text[len(text)/2] ^= 1
		require.NoError(t, os.WriteFile(parts[len(parts)-1], text, 0o600))
		a.run(t, dir, 5, "verify", "adhoc/app.db", "--from", a.url)
		newest := lines(a.run(t, dir, 0, "list", "--from", a.url, "--json").stdout)[0]
		_, id, _ := strings.Cut(newest, `"id":"`)
		a.run(t, dir, -1, "remove", id[:12], "--from", a.url, "--why", "damaged")
		require.NoFileExists(t, parts[len(parts)-1])
		a.run(t, dir, 0, "verify", "adhoc/app.db", "--from", a.url)
	})
}

// TestKilledOnTheWayAway: whatever a killed dump has sent is no dump, and the next one removes it.
func TestKilledOnTheWayAway(t *testing.T) {
	eachStore(t, func(t *testing.T, a away) {
		dir := t.TempDir()
		sh(t, dir, "sqlite3 app.db \"CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t SELECT value, "+
			"hex(randomblob(100)) FROM generate_series(1, 60000)\"")
		dump := []string{"dump", "--from", "./app.db", "--to", a.url}
		a.run(t, dir, -1, dump...)
		r := rand.New(rand.NewPCG(5, 6))
		for range 8 {
			cmd, _, wait := command(dir, dump...)
			cmd.Env = append(cmd.Env, a.env...)
			require.NoError(t, cmd.Start())
			time.Sleep(time.Duration(r.IntN(900)) * time.Millisecond)
			cmd.Process.Kill()
			wait()
			a.run(t, dir, 0, "verify", "adhoc", "--from", a.url)
		}
		a.run(t, dir, -1, dump...)
		folders, err := filepath.Glob(filepath.Join(a.path, "adhoc/app.db/*"))
		require.NoError(t, err)
		complete, err := filepath.Glob(filepath.Join(a.path, "adhoc/app.db/*/manifest.json"))
		require.NoError(t, err)
		require.Len(t, complete, len(folders), "nothing half done stays: %s", folders)
		a.run(t, dir, 0, "verify", "adhoc", "--from", a.url)
		left, err := filepath.Glob(filepath.Join(a.path, ".work/*"))
		require.NoError(t, err)
		require.Empty(t, left)
	})
}
