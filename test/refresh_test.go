package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// TestRefresh: a training database is made anew from the newest proven dump, changed before anybody sees it, and takes the
// place of the one before; what fails leaves that one as it was.
func TestRefresh(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	sh(t, dir, `mkdir live training; sqlite3 live/app.db "CREATE TABLE guest (id INTEGER PRIMARY KEY, mail TEXT); INSERT INTO guest
		VALUES (1, 'a@ternskerry.example')"`)
	configure := func(more string) {
		t.Helper()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), []byte("[journal]\nfolder = \"state\"\n[source.live]\n"+
			"engine = \"sqlite\"\npath = \"live\"\n[source.training]\nengine = \"sqlite\"\npath = \"training\"\n[keep.barn]\nfolder = "+
			"\"barn\"\n[job.nightly]\nsource = \"live\"\nkeep = \"barn\"\naccept = [\"same-file-system\"]\n[refresh.school]\ndump = "+
			"\"nightly/app.db\"\nas = \"app.db\"\nwhen = \"05:00\"\n"+more), 0o600))
	}
	configure("to = \"live\"\n")
	require.Contains(t, run(t, dir, 2, "refresh", "school").stderr, "the very database that the job nightly dumps")
	configure("to = \"training\"\nsql = [\"UPDATE guest SET mail = 'guest' || id\"]\n")
	run(t, dir, 0, "keep", "create", "barn")
	run(t, dir, 0, "dump", "nightly")
	require.Contains(t, run(t, dir, 1, "refresh", "school").stderr, "no dump of nightly/app.db is proven")
	run(t, dir, 0, "drill", "nightly")
	sh(t, dir, "sqlite3 live/app.db \"INSERT INTO guest VALUES (2, 'later')\"")
	run(t, dir, 0, "dump", "nightly") // which nobody has proven yet
	run(t, dir, 0, "refresh", "school")
	mails := func() string {
		return strings.TrimSpace(sh(t, dir, "sqlite3 training/app.db 'SELECT id, mail FROM guest'"))
	}
	require.Equal(t, "1|guest1", mails())
	sh(t, dir, "sqlite3 training/app.db 'DELETE FROM guest'")
	run(t, dir, 0, "drill", "nightly")
	run(t, dir, 0, "refresh", "school")
	require.Equal(t, "1|guest1\n2|guest2", mails())
	left, err := os.ReadDir(filepath.Join(dir, "training"))
	require.NoError(t, err)
	require.Len(t, left, 1, "the one before is gone")
	require.Contains(t, run(t, dir, 0, "schedule").stdout, "refresh")
	require.Contains(t, run(t, dir, 0, "schedule", "export", "--as", "crontab").stdout, " refresh school")
	require.Contains(t, run(t, dir, 0, "history", "--command", "refresh").stdout, "school")

	configure("to = \"training\"\nkeep_old = true\nread_only = true\nsql = [\"UPDATE nowhere SET mail = 1\"]\n")
	sh(t, dir, "sqlite3 training/app.db 'DELETE FROM guest'")
	require.Contains(t, run(t, dir, 1, "refresh", "school").stderr, "statement 1 of those that follow the restore failed")
	require.Empty(t, mails(), "the one before is as it was")
	configure("to = \"training\"\nkeep_old = true\nread_only = true\n")
	run(t, dir, 0, "refresh", "school")
	left, err = os.ReadDir(filepath.Join(dir, "training"))
	require.NoError(t, err)
	require.Len(t, left, 2, "the one before is aside")
}

// TestRefreshOnServers: the same there, while somebody is in the database that is made anew.
func TestRefreshOnServers(t *testing.T) {
	needServer(t)
	for name, start := range map[string]func(string) (string, func(sql string) string, func()){
		"postgres": func(parent string) (string, func(string) string, func()) {
			s, err := testserver.StartPostgres(parent)
			require.NoError(t, err)
			return fmt.Sprintf("engine = \"postgres\"\nserver = \"127.0.0.1:%d\"\nuser = %q\n", s.Port, testserver.Admin),
				func(sql string) string { return query(t, s, "postgres", sql) }, func() { s.Close() }
		},
		"mariadb": func(parent string) (string, func(string) string, func()) {
			m, err := testserver.StartMariaDB(parent)
			require.NoError(t, err)
			return fmt.Sprintf("engine = \"mysql\"\nserver = \"127.0.0.1:%d\"\nuser = %q\n", m.Port, testserver.Admin),
				func(sql string) string { return queryMaria(t, m, "", sql) }, func() { m.Close() }
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			source, ask, stop := start(ownFolder(t))
			defer stop()
			dir := t.TempDir()
			ask("CREATE DATABASE live")
			require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), []byte("[source.quay]\n"+source+"[keep.barn]\nfolder = "+
				"\"barn\"\n[job.nightly]\nsource = \"quay\"\ndatabases = [\"live\"]\nkeep = \"barn\"\ndrill_on = \"quay\"\naccept = "+
				"[\"same-file-system\"]\n[refresh.school]\ndump = \"nightly/live\"\nto = \"quay\"\nas = \"school\"\ndisconnect = true\n"+
				"sql = [\"CREATE TABLE "+map[string]string{"postgres": "public."}[name]+"seen (id int PRIMARY KEY)\"]\n"), 0o600))
			run(t, dir, 0, "keep", "create", "barn")
			run(t, dir, 0, "dump", "nightly")
			run(t, dir, 0, "drill", "nightly")
			for range 2 {
				run(t, dir, -1, "refresh", "school")
			}
			databases := "SELECT datname FROM pg_database WHERE datname LIKE 'school%'"
			if name == "mariadb" {
				databases = "SELECT schema_name FROM information_schema.schemata WHERE schema_name LIKE 'school%'"
			}
			require.Equal(t, "school", strings.TrimSpace(ask(databases)))
		})
	}
}
