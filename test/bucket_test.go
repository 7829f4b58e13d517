package test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// bucket is an object store with a keep in it, of a configuration.
func bucket(t *testing.T, more string) (s *testserver.S3, dir string, a away) {
	s, err := testserver.StartS3(ownFolder(t))
	if errors.Is(err, testserver.ErrAbsent) {
		t.Skip(err)
	}
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	dir = t.TempDir()
	sh(t, dir, "sqlite3 app.db \"CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t SELECT value, "+
		"hex(randomblob(500)) FROM generate_series(1, 20000)\"")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), fmt.Appendf(nil, "[journal]\nfolder = \"state\"\n"+
		"[source.s]\nengine = \"sqlite\"\npath = \".\"\n[keep.barn]\nstore = \"s3://barn/dumps\"\nendpoint = "+
		"\"http://127.0.0.1:%d\"\n%s\n[job.nightly]\nsource = \"s\"\nkeep = \"barn\"\ndatabases = [\"app.db\"]\nfull = \"02:30\"\n"+
		"incremental = \"each 15 min\"\ncompression = \"none\"\n", s.Port, more), 0o600))
	return s, dir, away{env: []string{"AWS_ACCESS_KEY_ID=" + testserver.S3User, "AWS_SECRET_ACCESS_KEY=" + testserver.S3Secret}}
}

// TestWhoMayOnlyWrite: somebody whose keys may make objects, and neither read nor list nor remove them, takes dumps; others
// find them in order.
func TestWhoMayOnlyWrite(t *testing.T) {
	s, dir, a := bucket(t, "id = \"ID\"")
	config := filepath.Join(dir, "grainkeep.toml")
	text, err := os.ReadFile(config)
	require.NoError(t, err)
	whole := strings.Replace(string(text), "id = \"ID\"", "", 1)
	require.NoError(t, os.WriteFile(config, []byte(whole), 0o600))
	o := a.run(t, dir, -1, "keep", "create", "barn", "--json")
	id := regexp.MustCompile(`"id":"([0-9a-f]+)"`).FindStringSubmatch(o.stdout)[1]
	require.NoError(t, s.AddUser("writer", "made-up-as-well", "barn", "s3:PutObject", "s3:AbortMultipartUpload"))
	w := away{env: []string{"AWS_ACCESS_KEY_ID=writer", "AWS_SECRET_ACCESS_KEY=made-up-as-well"}}
	require.Contains(t, w.run(t, dir, 1, "dump", "nightly").stderr, "cannot read the keep")

	require.NoError(t, os.WriteFile(config, []byte(strings.Replace(string(text), "ID", "abcdef1234567890", 1)), 0o600))
	require.Contains(t, a.run(t, dir, 1, "dump", "nightly").stderr, "was expected")
	require.NoError(t, os.WriteFile(config, []byte(strings.Replace(string(text), "ID", id, 1)), 0o600))
	require.Contains(t, w.run(t, dir, -1, "survey", "nightly").stdout, "enough for full dumps")
	require.Contains(t, w.run(t, dir, 3, "dump", "nightly").stderr, "may only make files")
	w.run(t, dir, 1, "list")
	w.run(t, dir, 1, "verify")

	require.Contains(t, a.run(t, dir, 0, "list").stdout, "nightly/app.db")
	require.Empty(t, a.run(t, dir, 0, "verify").stderr)
	a.run(t, dir, 0, "drill", "nightly")
	a.run(t, dir, -1, "dump", "nightly", "--kind", "incremental") // builds on it

	// And somebody who may only read brings it back.
	require.NoError(t, s.AddUser("reader", "made-up-too", "barn", "s3:GetObject", "s3:ListBucket"))
	r := away{env: []string{"AWS_ACCESS_KEY_ID=reader", "AWS_SECRET_ACCESS_KEY=made-up-too"}}
	require.Contains(t, r.run(t, dir, 0, "list").stdout, "nightly/app.db")
	r.run(t, dir, 0, "verify")
	r.run(t, dir, 0, "restore", "nightly/app.db", "--to", dir, "--as", "back.db")
	require.Contains(t, r.run(t, dir, 1, "dump", "nightly").stderr, "cannot write to the keep")
}

// TestLockedForItsTime: nobody can remove a dump of a keep with a lock, and what is under way is not locked.
func TestLockedForItsTime(t *testing.T) {
	_, dir, a := bucket(t, "lock = \"30 days\"")
	a.run(t, dir, -1, "keep", "create", "barn")
	a.run(t, dir, -1, "dump", "nightly")
	id := lines(a.run(t, dir, -1, "dump", "nightly", "--kind", "incremental", "--print", "id").stdout)[0]
	o := a.run(t, dir, 1, "remove", id[:12], "--why", "ransom")
	require.Contains(t, o.stderr, "is locked until")
	a.run(t, dir, 0, "verify", "nightly")
	config := filepath.Join(dir, "grainkeep.toml")
	text, err := os.ReadFile(config)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(config, append(text, []byte("retain = \"newest 1 full\"\n")...), 0o600))
	a.run(t, dir, -1, "dump", "nightly", "--kind", "full", "--new-baseline")
	a.run(t, dir, -1, "drill", "nightly")
	a.run(t, dir, 0, "thin", "nightly", "--apply")
	require.Contains(t, a.run(t, dir, 0, "list", "--all").stdout, id[:10])
	require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), []byte("[keep.barn]\nstore = \"s3://barn/dumps\"\n"+
		"lock = \"soon\"\n"), 0o600))
	require.Contains(t, a.run(t, dir, 2, "list").stderr, "lock")
}
