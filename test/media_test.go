package test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/demo"
)

// TestReadOnlyMedia reads a keep from a file system that cannot be written.
func TestReadOnlyMedia(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, demo.LoadSQLite(context.Background(), filepath.Join(dir, "data"), 1))
	run(t, dir, -1, "dump", "--from", "data", "--to", "keep", "--job", "nightly")
	usb := filepath.Join(dir, "usb")
	require.NoError(t, os.Mkdir(usb, 0o755))
	keep := filepath.Join(dir, "keep")
	if err := syscall.Mount(keep, usb, "", syscall.MS_BIND, ""); err == nil {
		defer syscall.Unmount(usb, syscall.MNT_DETACH)
		require.NoError(t, syscall.Mount("", usb, "", syscall.MS_BIND|syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))
	} else { // not root: permissions do the same
		require.NoError(t, os.Remove(usb))
		require.NoError(t, os.Rename(keep, usb))
		require.NoError(t, filepath.WalkDir(usb, func(p string, d os.DirEntry, err error) error {
			if err == nil && d.IsDir() {
				return os.Chmod(p, 0o500)
			}
			return err
		}))
		defer sh(t, dir, "chmod -R u+w usb")
	}
	home := t.TempDir()
	require.Len(t, result(t, home, 0, "list", "--all", "--from", usb)["result"], 3)
	run(t, home, 0, "show", "nightly", "--from", usb)
	run(t, home, 0, "verify", "--from", usb)
	run(t, home, 0, "restore", "nightly/cargo.db", "--from", usb, "--to", home)
	sameLines(t, contents(t, filepath.Join(dir, "data/cargo.db")), contents(t, filepath.Join(home, "cargo.db")))
	o := run(t, home, 3, "drill", "nightly/cargo.db", "--from", usb)
	require.Contains(t, o.stdout, "proven")
	require.Contains(t, o.stderr, "the proof could not be recorded")
	require.Contains(t, run(t, home, 1, "dump", "--from", filepath.Join(dir, "data"), "--to", usb).stderr,
		"cannot be written by this user")
}

// TestRestoreThatIsKilled: the target never exists half, and the next restore
// cleans up.
func TestRestoreThatIsKilled(t *testing.T) {
	s := needServer(t)
	dir := t.TempDir()
	require.NoError(t, demo.LoadSQLite(context.Background(), filepath.Join(dir, "data"), 1))
	run(t, dir, -1, "dump", "--from", "data", "--to", "keep", "--job", "files")
	run(t, dir, -1, "dump", "--from", s.URL("bookings"), "--to", "keep", "--job", "server")
	to := filepath.Join(dir, "to")
	require.NoError(t, os.Mkdir(to, 0o755))
	dropDatabases(t, s, "killed")
	defer dropDatabases(t, s, "killed")
	r := rand.New(rand.NewPCG(9, 9))
	want := contents(t, filepath.Join(dir, "data/bookings.db"))
	wanted := query(t, s, "bookings", "SELECT count(*), sum(id) FROM posting")
	half := 0
	for range 12 {
		for _, args := range [][]string{{"restore", "files/bookings.db", "--from", "keep", "--to", to}, {"restore",
			"server", "--from", "keep", "--to", s.URL(""), "--as", "killed"}} {
			cmd, _, wait := command(dir, args...)
			require.NoError(t, cmd.Start())
			time.Sleep(time.Duration(20+r.IntN(400)) * time.Millisecond)
			require.NoError(t, cmd.Process.Kill())
			wait()
		}
		entries, err := os.ReadDir(to)
		require.NoError(t, err)
		for _, e := range entries {
			if e.Name() == "bookings.db" {
				sameLines(t, want, contents(t, filepath.Join(to, "bookings.db")))
				require.NoError(t, os.Remove(filepath.Join(to, "bookings.db")))
			} else {
				half++
			}
		}
		if query(t, s, "postgres", "SELECT count(*) FROM pg_database WHERE datname = 'killed'") == "1" {
			require.Equal(t, wanted, query(t, s, "killed", "SELECT count(*), sum(id) FROM posting"),
				"what has the name is complete")
			dropDatabases(t, s, "killed")
		}
	}
	require.Positive(t, half, "some were caught in the middle")
	run(t, dir, 0, "restore", "files/bookings.db", "--from", "keep", "--to", to)
	entries, err := os.ReadDir(to)
	require.NoError(t, err)
	require.Len(t, entries, 1, "the leftovers are gone")
	quiet(t, onPostgres(t, s)) // a killed client's CREATE DATABASE may still be under way
	require.Eventually(t, func() bool {
		run(t, dir, 0, "restore", "server", "--from", "keep", "--to", s.URL(""), "--as", "killed")
		dropDatabases(t, s, "killed")
		return query(t, s, "postgres", "SELECT count(*) FROM pg_database WHERE datname LIKE 'grainkeep%'") == "0"
	}, 3*patience, tick)
}

// TestKilledReplaceLeavesNothingOfOurs: wherever it is killed, the database that has the
// name is complete, and holds no schema and no comment of ours.
func TestKilledReplaceLeavesNothingOfOurs(t *testing.T) {
	s := needServer(t)
	dir := t.TempDir()
	dropDatabases(t, s, "pier", "pier_live")
	query(t, s, "postgres", "CREATE DATABASE pier")
	query(t, s, "pier", "CREATE TABLE t AS SELECT 7 AS a; COMMENT ON DATABASE pier IS 'where boats lie'")
	run(t, dir, -1, "dump", "--from", s.URL("pier"), "--to", "keep")
	restore := []string{"restore", "adhoc/pier", "--from", "keep", "--to", s.URL(""), "--as", "pier_live", "--replace"}
	began := time.Now()
	run(t, dir, 0, restore...)
	span := time.Since(began)
	r := rand.New(rand.NewPCG(4, 4))
	for range 25 {
		cmd, _, wait := command(dir, restore...)
		require.NoError(t, cmd.Start())
		time.Sleep(span/2 + time.Duration(r.Int64N(int64(span)*2/3)))
		_ = cmd.Process.Kill() // it may have ended
		wait()
		quiet(t, onPostgres(t, s)) // what the killed one had asked for may still be under way
		require.Equal(t, "7", query(t, s, "pier_live", "SELECT a FROM t"))
		require.Equal(t, "0", query(t, s, "pier_live",
			"SELECT count(*) FROM pg_namespace WHERE nspname ~ '^grainkeep'"))
		require.Equal(t, "where boats lie",
			query(t, s, "pier_live",
				"SELECT shobj_description(oid, 'pg_database') FROM pg_database WHERE datname = 'pier_live'"))
	}
	quiet(t, onPostgres(t, s))
	require.Eventually(t, func() bool {
		cmd, _, wait := command(dir, "drill", "adhoc/pier", "--from", "keep", "--to", s.URL(""))
		return cmd.Start() == nil && wait().code == 0 &&
			query(t, s, "postgres", "SELECT count(*) FROM pg_database WHERE datname ~ '^grainkeep'") == "0"
	}, 3*patience, tick)
	for _, name := range strings.Split(query(t, s, "postgres",
		"SELECT datname FROM pg_database WHERE datname ~ '^pier'"), "\n") {
		dropDatabases(t, s, name)
	}
}

// TestManyAtOnce starts the same job many times: one runs, the others say so, and
// no lock is left.
func TestManyAtOnce(t *testing.T) {
	dir := smallJob(t)
	run(t, dir, 0, "keep", "create", "barn")
	var group sync.WaitGroup
	var done, refused, other atomic.Int64
	for range 12 {
		group.Go(func() {
			cmd, _, wait := command(dir, "dump", "nightly")
			if cmd.Start() != nil {
				return
			}
			switch o := wait(); o.code {
			case 3:
				done.Add(1)
			case 6:
				refused.Add(1)
			default:
				other.Add(1)
				t.Log(o.stderr)
			}
		})
	}
	group.Wait()
	require.Positive(t, done.Load())
	require.Zero(t, other.Load())
	require.EqualValues(t, 12, done.Load()+refused.Load())
	require.Len(t, result(t, dir, 0, "list", "--all")["result"], int(2*done.Load()))
	run(t, dir, 0, "verify")
	require.NoDirExists(t, filepath.Join(dir, "barn", ".work"))
}

// TestOldDumpsCanBeNamed dumps three times and restores each by its moment.
func TestOldDumpsCanBeNamed(t *testing.T) {
	t.Parallel()
	dir := smallJob(t)
	run(t, dir, 0, "keep", "create", "barn")
	for n := 3; n <= 5; n++ {
		run(t, dir, 3, "dump", "nightly/a.db")
		makeFile(t, filepath.Join(dir, "data", "a.db"), "INSERT INTO t VALUES (9)")
		time.Sleep(1100 * time.Millisecond) // moments are named in seconds
	}
	listed := result(t, dir, 0, "list", "nightly/a.db")["result"].([]any)
	require.Len(t, listed, 3)
	for i, l := range listed {
		entry := l.(map[string]any)
		moment := entry["moment"].(string)[:19] + "Z"
		require.EqualValues(t, 3+i, entry["rows"])
		o := run(t, dir, 0, "restore", "nightly/a.db", "--at", moment, "--as", fmt.Sprint("at", i, ".db"))
		require.Contains(t, o.stderr, strings.Replace(moment[:19], "T", " ", 1)+" UTC",
			"the chosen moment is shown before anything is done")
		db := openFile(t, filepath.Join(dir, "data", fmt.Sprint("at", i, ".db")))
		var n int
		require.NoError(t, db.QueryRow("SELECT count(*) FROM t").Scan(&n))
		require.Equal(t, 3+i, n)
	}
	require.Contains(t, run(t, dir, 2, "show", "nightly/a.db", "--at", "3 days").stderr, "the next one after is of")
}
