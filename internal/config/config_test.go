package config

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/engine"
	_ "grainkeep/internal/engine/postgres"
	_ "grainkeep/internal/engine/sqlite"
	"grainkeep/internal/fault"
)

const good = `timezone = "Atlantic/Faroe"
[source.quay]
engine = "postgres"
server = "db1.ternskerry.example:5432"
user = "grainkeep"
secret = "file:quay.secret"
tls = "verify"
[keep.barn]
folder = "dumps"
floor = "15%"
[job.nightly]
source = "quay"
databases = ["bookings"]
keep = "barn"
[[job.nightly.check]]
sql = "SELECT 1"
answer = "1"
`

func TestStarterIsValidOnceUncommented(t *testing.T) {
	_, err := Parse(Starter, "starter")
	require.NoError(t, err)
	var lines []string
	for l := range strings.Lines(string(Starter)) {
		if s, ok := strings.CutPrefix(l, "# "); ok && (strings.Contains(s, " = ") || strings.HasPrefix(s, "[")) {
			l = s
		}
		lines = append(lines, l)
	}
	f, err := Parse([]byte(strings.Join(lines, "")), "starter")
	require.NoError(t, err)
	require.Equal(t, []string{"nightly"}, f.Jobs())
	require.Equal(t, []string{"files", "quay"}, f.Sources())
}

func TestMistakesAreShownWhereTheyAre(t *testing.T) {
	for _, c := range []struct{ old, new, say, advice string }{
		{"floor =", "flor =", `/etc/x.toml, line 10: there is no key "keep.barn.flor"`, `did you mean "floor"?`},
		{"answer =", "anser =", `line 17: there is no key`, `did you mean "answer"?`},
		{"[keep.barn]", "[keeps.barn]", `there is no key "keeps.barn"`, `did you mean "keep"?`},
		{`"15%"`, `"15 percent"`, "floor:", ""},
		{`tls = "verify"`, `tls = "yes"`, `tls is "yes"`, `write "off", "on" or "verify"`},
		{`"file:quay.secret"`, `"hunter2"`, "the secret itself must not stand in this file", "change the password"},
		{`source = "quay"`, `source = "key"`, `there is no source "key"`, "the sources are: quay"},
		{`[job.nightly]`, `[job.Nightly]`, "cannot be named so", "small letters"},
		{`"Atlantic/Faroe"`, `"Atlantic/Atlantis"`, "there is no time zone", ""},
		{`"postgres"`, `"oracle"`, `there is no engine "oracle"`, "postgres, sqlite"},
		{`["bookings"]`, `["bookings`, "line 13", ""},
	} {
		_, err := Parse([]byte(strings.Replace(good, c.old, c.new, 1)), "/etc/x.toml")
		require.ErrorContains(t, err, c.say)
		require.Equal(t, fault.Usage, fault.Of(err).Class)
		require.Contains(t, fault.Of(err).Do, c.advice)
		require.NotContains(t, fmt.Sprint(err), "hunter2")
	}
}

func TestSecrets(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "quay.secret")
	require.NoError(t, os.WriteFile(path, []byte("hunter2\n"), 0o600))
	f, err := Parse([]byte(good), filepath.Join(dir, "x.toml"))
	require.NoError(t, err)
	at, err := f.Location("quay")
	require.NoError(t, err)
	s, err := at.Secret()
	require.NoError(t, err)
	require.Equal(t, "hunter2", s.Reveal())
	require.NotContains(t, fmt.Sprintf("%v %+v %#v %s %q", s, s, s, s, s), "hunter2")
	require.NoError(t, os.Chmod(path, 0o640))
	_, err = at.Secret()
	require.True(t, fault.HasCode(err, "secret-exposed"))
	text, err := f.Excerpt("nightly")
	require.NoError(t, err)
	require.NotContains(t, string(text), "hunter2")
	kept, err := Parse(text, "/elsewhere/nightly.toml")
	require.NoError(t, err, "what a keep remembers can be used as a configuration: %s", text)
	require.Equal(t, filepath.Join(dir, "dumps"), kept.Keep["barn"].Folder)
	require.Len(t, kept.Checks("nightly"), 1)
}

func TestAddress(t *testing.T) {
	for text, want := range map[string]engine.Location{
		"postgres://ann@db:5433/app":                   {Engine: "postgres", Server: "db:5433", User: "ann", Database: "app"},
		"postgresql://db/a%2Fb%20c%22d'%C3%A9?tls=on":  {Engine: "postgres", Server: "db", Database: "a/b c\"d'é", TLS: "on"},
		"postgres:///app?host=/run/postgresql&port=99": {Engine: "postgres", Server: "/run/postgresql/.s.PGSQL.99", Database: "app"},
		"./my app's.db":          {Engine: "sqlite", Path: "my app's.db"},
		"sqlite:///srv/a%20b.db": {Engine: "sqlite", Path: "/srv/a b.db"},
	} {
		at, err := Address(nil, text)
		require.NoError(t, err)
		require.Equal(t, want, at, text)
	}
	for text, code := range map[string]string{
		"postgres://ann:hunter2@db/app":          "secret-in-argument",
		"postgres://ann@db/app?password=hunter2": "secret-in-argument",
		"postgres://ann:hunter2%zz@db/app":       "source-unclear",
		"postgres://db/app?sslmode=require":      "source-unclear",
		"quay":                                   "source-unknown",
	} {
		_, err := Address(nil, text)
		require.True(t, fault.HasCode(err, code), text)
		require.NotContains(t, err.Error()+fault.Of(err).Do, "hunter2")
	}
}
