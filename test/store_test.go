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
		dump := append([]string{"dump", "--from", "./app.db", "--to", a.url}, sealedFor(t, dir)...)
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

// TestCopies: chains whole and in order, from keep to keep and back; what is there is not sent again, what is damaged is
// not sent at all; proofs come along; the machine that is lost comes back from the copy.
func TestCopies(t *testing.T) {
	eachStore(t, func(t *testing.T, a away) {
		dir := t.TempDir()
		sh(t, dir, "mkdir data && sqlite3 data/app.db \"CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t SELECT "+
			"value, hex(randomblob(20)) FROM generate_series(1, 5000)\"")
		place, options, _ := strings.Cut(a.url, "?")
		config := "[source.s]\nengine = \"sqlite\"\npath = \"data\"\n[keep.barn]\nfolder = \"barn\"\n[keep.vault]\nstore = \"" +
			place + "\"\n"
		for _, o := range strings.Split(options, "&") {
			key, value, _ := strings.Cut(o, "=")
			config += key + " = \"" + value + "\"\n"
		}
		config += "retain = \"newest 1 full\"\nthin = \"after a copy\"\n"
		config += "[job.nightly]\nsource = \"s\"\nkeep = \"barn\"\ncopy_to = [\"vault\"]\nfull = \"02:30\"\nincremental = \"each " +
			"15 min\"\naccept = [\"same-file-system\"]\n"
		require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), []byte(config), 0o600))
		a.run(t, dir, 0, "keep", "create", "barn")
		a.run(t, dir, 0, "keep", "create", "vault")
		o := a.run(t, dir, 0, "dump", "nightly", "--kind", "full", "--new-baseline")
		require.Len(t, lines(o.stdout), 1, "just the dump")
		require.Contains(t, o.stderr, "Copying 1 dump to ")
		time.Sleep(time.Second)
		sh(t, dir, "sqlite3 data/app.db \"UPDATE t SET v = 'changed' WHERE id = 7\"")
		a.run(t, dir, 0, "dump", "nightly")
		require.Contains(t, a.run(t, dir, 0, "list").stdout, "Copies")
		away := strings.Replace(config, "keep = \"barn\"\ncopy_to = [\"vault\"]", "keep = \"vault\"", 1)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "away.toml"), []byte(away), 0o600))
		require.Contains(t, a.run(t, dir, 0, "--config", "away.toml", "survey", "nightly").stdout,
			"files can be made, read, changed and removed; of two who make the same, one is refused")
		require.Contains(t, a.run(t, dir, 0, "copy", "nightly", "--to", "vault").stderr, "Nothing to copy")
		a.run(t, dir, 0, "drill", "nightly", "--to", filepath.Join(dir, "data"))
		require.Contains(t, a.run(t, dir, 0, "list", "--from", "vault").stdout, "unproven")
		a.run(t, dir, 0, "copy", "nightly", "--to", "vault")
		require.Contains(t, a.run(t, dir, 0, "list", "--from", "vault").stdout, " proven ")

		// The store is away while a dump is taken: the dump is there, and the next one brings both.
		moved := a.path + "-moved"
		require.NoError(t, os.Rename(a.path, moved))
		require.Contains(t, a.run(t, dir, 3, "status").stderr, "the copies in vault could not be looked at")
		time.Sleep(time.Second)
		o = a.run(t, dir, 1, "dump", "nightly")
		require.Contains(t, o.stderr, "were not copied to vault")
		require.Len(t, lines(o.stdout), 1)
		require.NoError(t, os.Rename(moved, a.path))
		time.Sleep(time.Second)
		require.Contains(t, a.run(t, dir, 0, "dump", "nightly").stderr, "Copying 2 dumps to ")
		require.Contains(t, a.run(t, dir, 0, "dump", "nightly", "--json").stdout, `"dumps":[{`)

		// There its own phrase says what stays: of the old chain what the newest proven dump needs.
		time.Sleep(time.Second)
		o = a.run(t, dir, 0, "dump", "nightly", "--kind", "full", "--new-baseline")
		require.Contains(t, o.stderr, "removed nightly/app.db")
		require.Len(t, lines(a.run(t, dir, 0, "list", "nightly/app.db", "--from", "vault").stdout), 1+3)
		require.Contains(t, a.run(t, dir, 0, "status", "--json").stdout, `"copies":{"count":3,`)

		// Damage does not spread.
		parts, err := filepath.Glob(filepath.Join(dir, "barn/nightly/app.db/*-full/20-data/*/*"))
		require.NoError(t, err)
		text, err := os.ReadFile(parts[0])
		require.NoError(t, err)
		text[len(text)/2] ^= 1
		require.NoError(t, os.WriteFile(parts[0], text, 0o600))
		o = a.run(t, dir, 1, "copy", "--all", "--from", "barn", "--to", "other/")
		require.Contains(t, o.stderr, "is damaged: it is not as the manifest says")
		require.Contains(t, o.stderr, "what it builds on was not")
		require.NoDirExists(t, filepath.Join(dir, "other/nightly"))

		// The machine is lost: from the copy alone, another keep and the data.
		sh(t, dir, "mkdir new && cp data/app.db new/as_it_was")
		fresh := filepath.Join(dir, "new")
		require.NoError(t, os.Rename(filepath.Join(dir, "barn"), filepath.Join(dir, "burnt")))
		a.run(t, fresh, 0, "copy", "--all", "--from", a.url, "--to", "./barn")
		a.run(t, fresh, 0, "verify", "nightly", "--from", "./barn")
		run(t, fresh, 0, "restore", "nightly/app.db", "--from", "./barn", "--to", fresh)
		require.Equal(t, sh(t, fresh, "sqlite3 as_it_was 'SELECT * FROM t'"), sh(t, fresh, "sqlite3 app.db 'SELECT * FROM t'"))
	})
}

// TestCopiesThatAreKilled: whatever was sent is no dump until all of it is there, and the next try finishes.
func TestCopiesThatAreKilled(t *testing.T) {
	eachStore(t, func(t *testing.T, a away) {
		dir := t.TempDir()
		sh(t, dir, "sqlite3 app.db \"CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t SELECT value, "+
			"hex(randomblob(100)) FROM generate_series(1, 30000)\"")
		for range 3 {
			run(t, dir, -1, "dump", "--from", "./app.db", "--to", "barn/")
		}
		a.run(t, dir, 0, "keep", "create", a.url)
		copies := append([]string{"copy", "--all", "--from", "barn/", "--to", a.url}, sealedFor(t, dir)...)
		r := rand.New(rand.NewPCG(7, 8))
		tries := 10
		if text := os.Getenv("GRAINKEEP_CUTS"); text != "" {
			_, err := fmt.Sscan(text, &tries)
			require.NoError(t, err)
		}
		for range tries {
			cmd, _, wait := command(dir, copies...)
			cmd.Env = append(cmd.Env, a.env...)
			require.NoError(t, cmd.Start())
			time.Sleep(time.Duration(r.IntN(700)) * time.Millisecond)
			cmd.Process.Kill()
			wait()
			if o := a.run(t, dir, 0, "list", "--from", a.url, "--all"); strings.Contains(o.stdout, "adhoc") {
				a.run(t, dir, 0, "verify", "adhoc", "--from", a.url)
			}
		}
		a.run(t, dir, 0, copies...)
		complete, err := filepath.Glob(filepath.Join(a.path, "adhoc/app.db/*/manifest.json"))
		require.NoError(t, err)
		folders, err := filepath.Glob(filepath.Join(a.path, "adhoc/app.db/*"))
		require.NoError(t, err)
		require.Len(t, complete, 3)
		require.Len(t, folders, 3, "nothing half done stays")
		a.run(t, dir, 0, "verify", "adhoc", "--from", a.url)
	})
}

// TestMemoryStaysSmallAway: nothing of a large dump is held for long, however slow the way is.
func TestMemoryStaysSmallAway(t *testing.T) {
	eachStore(t, func(t *testing.T, a away) {
		dir := t.TempDir()
		sh(t, dir, "sqlite3 app.db 'CREATE TABLE t (id INTEGER PRIMARY KEY, v BLOB); INSERT INTO t SELECT value, "+
			"randomblob(1000) FROM generate_series(1, 100000)'")
		dump := append([]string{"dump", "--from", "./app.db", "--to", a.url}, sealedFor(t, dir)...)
		for _, args := range [][]string{dump, {"verify", "adhoc", "--from", a.url},
			{"copy", "adhoc", "--from", a.url, "--to", "near/"},
			{"restore", "adhoc/app.db", "--from", "near/", "--key", "safe.key", "--to", dir, "--as", "back.db"}} {
			cmd, _, wait := command(dir, args...)
			cmd.Env = append(cmd.Env, a.env...)
			require.LessOrEqual(t, peakOf(t, cmd, wait, 0), int64(96<<20), "%q", args)
		}
	})
}

// TestMirror: what is removed where dumps were copied from goes from the mirror too; what just vanishes there does not.
func TestMirror(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	sh(t, dir, "mkdir data && sqlite3 data/app.db 'CREATE TABLE t (id INTEGER PRIMARY KEY)'")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), []byte("[source.s]\nengine = \"sqlite\"\npath = "+
		"\"data\"\n[keep.barn]\nfolder = \"barn\"\n[keep.attic]\nfolder = \"attic\"\nmirror = true\n[job.nightly]\nsource = "+
		"\"s\"\nkeep = \"barn\"\ncopy_to = [\"attic\"]\naccept = [\"same-file-system\"]\n"), 0o600))
	run(t, dir, 0, "keep", "create", "barn")
	run(t, dir, 0, "keep", "create", "attic")
	var ids, paths []string
	for range 3 {
		o := run(t, dir, 0, "dump", "nightly", "--print", "id")
		ids = append(ids, lines(o.stdout)[0])
		time.Sleep(time.Second)
	}
	in := func(keep string) string {
		return run(t, dir, -1, "list", "nightly/app.db", "--from", keep, "--json").stdout
	}
	for _, id := range ids {
		require.Contains(t, in("attic"), id)
	}
	run(t, dir, 0, "remove", ids[0][:12], "--from", "barn", "--why", "not needed")
	paths, err := filepath.Glob(filepath.Join(dir, "barn/nightly/app.db/*"))
	require.NoError(t, err)
	require.NoError(t, os.RemoveAll(paths[0]))
	run(t, dir, -1, "dump", "nightly")
	require.NotContains(t, in("attic"), ids[0], "it was removed")
	require.Contains(t, in("attic"), ids[1], "it has vanished, which is no removal")
	require.Contains(t, in("attic"), ids[2])
}

// TestACopyGoesOn: of a copy that was cut off, what has arrived whole is not sent again, and what has not is.
func TestACopyGoesOn(t *testing.T) {
	eachStore(t, func(t *testing.T, a away) {
		dir := t.TempDir()
		for _, table := range []string{"a", "b", "c", "d", "e"} {
			sh(t, dir, "sqlite3 app.db 'CREATE TABLE "+table+" (id INTEGER PRIMARY KEY, v BLOB); INSERT INTO "+table+
				" SELECT value, randomblob(1000) FROM generate_series(1, 20000)'")
		}
		run(t, dir, -1, "dump", "--from", "./app.db", "--to", "barn/", "--compression", "none")
		a.run(t, dir, 0, "keep", "create", a.url)
		copies := []string{"copy", "--all", "--from", "barn/", "--to", a.url}
		arrived := func() map[string]os.FileInfo {
			found, err := filepath.Glob(filepath.Join(a.path, "adhoc/app.db/*/20-data/*/part-*"))
			require.NoError(t, err)
			files := map[string]os.FileInfo{}
			for _, path := range found {
				if info, err := os.Stat(path); err == nil {
					files[path] = info
				}
			}
			return files
		}
		cmd, _, wait := command(dir, copies...)
		cmd.Env = append(cmd.Env, a.env...)
		require.NoError(t, cmd.Start())
		for len(arrived()) < 2 {
			time.Sleep(time.Millisecond)
		}
		cmd.Process.Kill()
		wait()
		before := arrived()
		require.Less(t, len(before), 5, "the test was too slow to cut it off")
		var spoilt string // is sent again, whatever its length
		for path := range before {
			spoilt = path
		}
		require.NoError(t, os.WriteFile(spoilt, make([]byte, before[spoilt].Size()), 0o600))
		delete(before, spoilt)
		stray := filepath.Join(filepath.Dir(spoilt), "stray")
		require.NoError(t, os.WriteFile(stray, nil, 0o600))
		require.Empty(t, a.run(t, dir, 0, "list", "--from", a.url).stdout)
		a.run(t, dir, 0, copies...)
		now := arrived()
		require.Len(t, now, 5)
		for path, info := range before {
			require.True(t, os.SameFile(info, now[path]) && info.ModTime().Equal(now[path].ModTime()), "%s was sent again", path)
		}
		require.Empty(t, a.run(t, dir, 0, "verify", "--from", a.url).stderr)
		require.NoFileExists(t, stray)
		left, err := filepath.Glob(filepath.Join(a.path, ".work/*"))
		require.NoError(t, err)
		require.Empty(t, left)
	})
}
