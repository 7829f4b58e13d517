package config

import (
	_ "embed"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	_ "grainkeep/internal/engine/postgres"
	_ "grainkeep/internal/engine/sqlite"
	"grainkeep/internal/fault"
)

//go:embed testdata/good.toml
var good string

func TestStarterIsValidOnceUncommented(t *testing.T) {
	_, err := Parse(Starter, "starter")
	require.NoError(t, err)
	for _, rhythm := range []string{"#1 ", "#2 ", "#3 ", "#4 "} {
		var lines []string
		for l := range strings.Lines(string(Starter)) {
			if s, ok := strings.CutPrefix(l, "# "); ok && (strings.Contains(s, " = ") || strings.HasPrefix(s, "[")) {
				l = s
			}
			lines = append(lines, strings.TrimPrefix(l, rhythm))
		}
		f, err := Parse([]byte(strings.Join(lines, "")), "starter")
		require.NoError(t, err)
		require.Equal(t, []string{"nightly"}, f.Jobs())
		require.Equal(t, []string{"files", "quay"}, f.Sources())
		require.NotNil(t, f.Job["nightly"].Full, rhythm)
	}
}

func TestNamesOfEngines(t *testing.T) {
	f, err := Parse([]byte("[source.quay]\nengine = \"mariadb\"\nserver = \"db1.ternskerry.example\"\n"), "/etc/x.toml")
	require.NoError(t, err)
	require.Equal(t, "mysql", f.Source["quay"].Engine)
}

func TestMistakesAreShownWhereTheyAre(t *testing.T) {
	for _, c := range []struct{ old, new, say, advice string }{
		{"floor =", "flor =", `/etc/x.toml, line 10: there is no key "keep.barn.flor"`, `did you mean "floor"?`},
		{"answer =", "anser =", `line 17: there is no key`, `did you mean "answer"?`},
		{"floor =", "path =", `there is no key "keep.barn.path"`, "the keys here are: folder, floor"},
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
