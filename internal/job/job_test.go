package job

import (
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/config"
	"grainkeep/internal/engine"
	_ "grainkeep/internal/engine/postgres"
	_ "grainkeep/internal/engine/sqlite"
	"grainkeep/internal/fault"
)

func TestSecrets(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "quay.secret")
	require.NoError(t, os.WriteFile(path, []byte("hunter2\n"), 0o600))
	good, err := os.ReadFile("../config/testdata/good.toml")
	require.NoError(t, err)
	f, err := config.Parse(good, filepath.Join(dir, "x.toml"))
	require.NoError(t, err)
	at, err := Of(f).Location("quay")
	require.NoError(t, err)
	s, err := at.Secret()
	require.NoError(t, err)
	require.Equal(t, "hunter2", s.Reveal())
	require.NotContains(t, fmt.Sprintf("%v %+v %#v %s %q", s, s, s, s, s), "hunter2")
	exposed := func(how string) {
		t.Helper()
		_, err := at.Secret()
		require.True(t, fault.HasCode(err, "secret-exposed"), how)
		require.ErrorContains(t, err, how)
	}
	require.NoError(t, os.Chmod(path, 0o640))
	exposed("others can read it")
	require.NoError(t, os.Chmod(path, 0o600))
	require.NoError(t, os.Chmod(dir, 0o777))
	exposed("others can write to the folder")
	require.NoError(t, os.Chmod(dir, 0o700))
	require.NoError(t, os.Rename(path, path+".real"))
	require.NoError(t, os.Symlink(path+".real", path))
	exposed("it is a link")
	require.NoError(t, os.Remove(path))
	require.NoError(t, syscall.Mkfifo(path, 0o600))
	exposed("it is not a regular file")
	text, err := f.Excerpt("nightly")
	require.NoError(t, err)
	require.NotContains(t, string(text), "hunter2")
	kept, err := config.Parse(text, "/elsewhere/nightly.toml")
	require.NoError(t, err, "what a keep remembers can be used as a configuration: %s", text)
	require.Equal(t, filepath.Join(dir, "dumps"), kept.Keep["barn"].Folder)
	require.Len(t, Checks(kept, "nightly"), 1)
}

func TestAddress(t *testing.T) {
	for text, want := range map[string]engine.Location{
		"postgres://ann@db:5433/app": {Engine: "postgres", Server: "db:5433", User: "ann",
			Database: "app"},
		"postgresql://db/a%2Fb%20c%22d'%C3%A9?tls=on": {Engine: "postgres", Server: "db", Database: "a/b c\"d'é",
			TLS: "on"},
		"postgres:///app?host=/run/postgresql&port=99": {Engine: "postgres", Server: "/run/postgresql/.s.PGSQL.99",
			Database: "app"},
		"./my app's.db":          {Engine: "sqlite", Path: "my app's.db"},
		"sqlite:///srv/a%20b.db": {Engine: "sqlite", Path: "/srv/a b.db"},
	} {
		at, err := Of(nil).Address(text)
		require.NoError(t, err)
		require.Equal(t, want, at, text)
	}
	for text, code := range map[string]string{
		"postgres://ann:hunter2@db/app":          "secret-in-argument",
		"postgres://ann@db/app?password=hunter2": "secret-in-argument",
		"postgres://ann:hunter2%zz@db/app":       "source-unclear",
		"postgres:ann:hunter2@db/app":            "source-unclear",
		"POSTGRES://ann:hunter2@db/app":          "secret-in-argument",
		"pgsql://ann:hunter2@db/app":             "source-unknown",
		"mysql://db/?Pass=hunter2":               "secret-in-argument",
		"mysql://db/app?pwd=hunter2":             "secret-in-argument",
		"db.example?password=hunter2":            "source-unknown",
		"postgres://db/app?sslmode=require":      "source-unclear",
		"quay":                                   "source-unknown",
	} {
		_, err := Of(nil).Address(text)
		require.True(t, fault.HasCode(err, code), text)
		require.NotContains(t, err.Error()+fault.Of(err).Do, "hunter2")
	}
}
