package test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestCasesAway: what is to be so in a folder is so in a store on another machine: odd names, a file system that is full, one
// that cannot be written, two who begin at once.
func TestCasesAway(t *testing.T) {
	eachStore(t, func(t *testing.T, a away) {
		dir := t.TempDir()
		sh(t, dir, "sqlite3 app.db \"CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t SELECT value, "+
			"hex(randomblob(500)) FROM generate_series(1, 9000)\"")

		// Odd names.
		odd := "Ä b\"c'd`$(x)\n%2e"
		sh(t, dir, "mkdir out")
		require.NoError(t, os.Link(filepath.Join(dir, "app.db"), filepath.Join(dir, odd)))
		a.run(t, dir, -1, "dump", "--from", "./"+odd, "--to", a.url, "--job", "odd")
		a.run(t, dir, 0, "drill", "odd/"+odd, "--from", a.url, "--to", "out")

		// Two at once: one of them dumps.
		dump := []string{"dump", "--from", "./app.db", "--to", a.url}
		codes := make(chan int, 2)
		for range 2 {
			cmd, _, wait := command(dir, dump...)
			cmd.Env = append(cmd.Env, a.env...)
			require.NoError(t, cmd.Start())
			go func() { codes <- wait().code }()
		}
		got := []int{<-codes, <-codes}
		slices.Sort(got)
		require.Contains(t, [][]int{{3, 6}, {0, 6}, {3, 3}, {0, 0}}, got, "one after the other, or one alone")
		a.run(t, dir, 0, "verify", "--from", a.url)

		// What cannot be written can be read.
		if os.Getuid() == 0 && strings.HasPrefix(a.url, "sftp") {
			require.NoError(t, syscall.Mount(a.path, a.path, "", syscall.MS_BIND, ""))
			defer syscall.Unmount(a.path, 0)
			require.NoError(t, syscall.Mount("", a.path, "", syscall.MS_REMOUNT|syscall.MS_BIND|syscall.MS_RDONLY, ""))
			require.Contains(t, a.run(t, dir, 1, dump...).stderr, "cannot write to the keep")
			a.run(t, dir, 0, "list", "--from", a.url)
			a.run(t, dir, 0, "verify", "--from", a.url)
			a.run(t, dir, 0, "restore", "adhoc/app.db", "--from", a.url, "--to", dir, "--as", "back.db")
			require.Contains(t, a.run(t, dir, 1, "drill", "adhoc/app.db", "--from", a.url, "--to", "out").stdout, "proven",
				"though that cannot be recorded")
			require.NoError(t, syscall.Unmount(a.path, 0))
		}

		// A disk there that is full.
		if os.Getuid() == 0 {
			jobs := filepath.Join(a.path, "full")
			require.NoError(t, os.MkdirAll(jobs, 0o755))
			require.NoError(t, syscall.Mount("tmpfs", jobs, "tmpfs", 0, "size=2m"))
			defer syscall.Unmount(jobs, 0)
			o := a.run(t, dir, 1, append(dump, "--job", "full", "--compression", "none")...)
			require.Contains(t, o.stderr, "app.db was not dumped")
			found, err := filepath.Glob(filepath.Join(jobs, "*/*/manifest.json"))
			require.NoError(t, err)
			require.Empty(t, found)
			a.run(t, dir, 0, "verify", "--from", a.url)
		}
	})
}
