package config

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	_ "grainkeep/internal/engine/mysql"
	_ "grainkeep/internal/engine/postgres"
	_ "grainkeep/internal/engine/sqlite"
)

// TestGuided: every choice of a guided start gives a configuration that is valid and says what was chosen, and keeps the
// starter's other lines.
func TestGuided(t *testing.T) {
	t.Parallel()
	require.Len(t, Rhythms(), 4)
	require.Equal(t, "Each night", Rhythms()[0].Title)
	for rhythm := range 5 {
		for _, a := range []Answers{
			{Engine: "postgres", Server: "db1.ternskerry.example:5432", User: "grainkeep", Secret: "file:quay.secret", TLS: "verify", Databases: []string{"bookings",
				`odd "name`}, Drill: true, Accept: []string{"same-file-system"}},
			{Engine: "mysql", Server: "/run/mysqld", Drill: false}, {Engine: "sqlite", Path: "/srv/app data"},
		} {
			a.Folder, a.Floor, a.Rhythm = "/mnt/barn/dumps", "15%", rhythm
			path := filepath.Join(t.TempDir(), FileName)
			text := Guided(a)
			require.NoError(t, os.WriteFile(path, text, 0o600))
			f, err := Find(path)
			require.NoError(t, err, "%s", text)
			require.Equal(t, []string{a.SourceName()}, f.Sources())
			s, j := f.Source[a.SourceName()], f.Job[GuidedJob]
			require.Equal(t, []string{a.Engine, a.Server, a.User, a.Secret, a.TLS, a.Path}, []string{s.Engine, s.Server, s.User, s.Secret, s.TLS, s.Path})
			require.Equal(t, a.Databases, j.Databases)
			require.Equal(t, "15%", f.Keep[GuidedKeep].Floor)
			require.Equal(t, rhythm > 0, j.Full != nil)
			require.Equal(t, a.Drill, j.DrillOn != "")
			require.Equal(t, strings.Count(string(Starter), "\n"), strings.Count(string(text), "\n"), "no line is lost")
		}
	}
}
