package config

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/fault"
	"grainkeep/internal/step"
)

const nightly = `
[journal]
folder = "state"
keep_for = "730 days"
[schedule]
at_once = 2
listen = "127.0.0.1:7643"
token_sha256 = "952476ccbd8df86733e2f60d22b438a05938f4182aa91cdf4f83d2ce42f4946c"
[source.harbour]
engine = "command"
dump = ["./store", "dump", "$(reboot)"]
check = ["./store", "check"]
limit = "2 h"
[keep.barn]
folder = "barn"
[[keep.barn.before]]
run = ["mount", "/mnt/barn"]
[job.messages]
source = "harbour"
keep = "barn"
name = "{stamp}-{kind}-{note}"
rate = "20 MiB/s"
tries = 5
priority = "low"
catch_up = "6 h"
accept = ["same-file-system"]
[[job.messages.before]]
shell = "systemctl stop x | logger"
user = "ferry"
optional = true
[[job.messages.files]]
name = "papers"
folder = "papers"
[tell.office]
by = "mail"
server = "mail.ternskerry.example:587"
from = "a@ternskerry.example"
to = ["b@ternskerry.example"]
on = ["failure", "success"]
summary = "07:00 on weekdays"
again = "2 days"
`

func TestTheNightIsRead(t *testing.T) {
	f, err := Parse([]byte(nightly), "/etc/x.toml")
	require.NoError(t, err)
	steps, err := f.Steps(f.Job["messages"].Before)
	require.NoError(t, err)
	require.Equal(t, []step.Step{{Words: []string{"/bin/sh", "-c", "systemctl stop x | logger"},
		Limit: step.DefaultLimit, User: "ferry",
		Optional: true}}, steps)
	s, err := f.Stream("harbour")
	require.NoError(t, err)
	require.Equal(t, []string{"./store", "dump", "$(reboot)"}, s.Dump.Words, "no shell reads it")
	require.Equal(t, 2*time.Hour, s.Check.Limit)
	require.Nil(t, s.Restore)
	rate, err := ParseRate(f.Job["messages"].Rate)
	require.NoError(t, err)
	require.EqualValues(t, 20<<20, rate)
	require.Equal(t, "/etc/state", StateFolder(f))
	kept, err := f.Excerpt("messages")
	require.NoError(t, err)
	require.NotContains(t, string(kept), "store", "commands have no place in a keep")
	require.NotContains(t, string(kept), "mount")
	require.NotContains(t, string(kept), "systemctl")
	require.Contains(t, string(kept), "/etc/papers")
	_, err = Parse(kept, "/mnt/usb/jobs/messages.toml")
	require.NoError(t, err, "it can be used")
}

func TestWhereTheStateIs(t *testing.T) {
	t.Setenv("HOME", "/home/dumper")
	t.Setenv("XDG_STATE_HOME", "")
	require.Equal(t, "/home/dumper/.local/state/grainkeep", StateFolder(nil))
	t.Setenv("XDG_STATE_HOME", "/var/tmp/x")
	require.Equal(t, "/var/tmp/x/grainkeep", StateFolder(nil))
	f, err := Parse(nil, SystemFile)
	require.NoError(t, err)
	require.Equal(t, "/var/lib/grainkeep", StateFolder(f), "whoever uses it")
	f, err = Parse([]byte("[journal]\nfolder = \"s\""), filepath.Join("/srv", FileName))
	require.NoError(t, err)
	require.Equal(t, "/srv/s", StateFolder(f))
}

func TestMistakesOfTheNight(t *testing.T) {
	for _, c := range []struct{ old, new, say string }{
		{`by = "mail"`, `by = "pigeon"`, `by is "pigeon"`},
		{`from = "a@`, `form = "a@`, `there is no key "tell.office.form"`},
		{`["failure", "success"]`, `["failures"]`, `"failures" cannot be told of`},
		{`"07:00 on weekdays"`, `"07:00 on caturday"`, "caturday"},
		{`server = "mail.ternskerry.example:587"`, `server = "mail"`, `server is "mail"`},
		{`again = "2 days"`, `again = "often"`, "again:"},
		{`[tell.office]`, `[tell."a b"]`, "cannot be named so"},
		{`to = ["b@ternskerry.example"]`, ``, "the key to is missing"},
		{`at_once = 2`, `at_once = 100`, "at_once is 100"},
		{`"127.0.0.1:7643"`, `":7643"`, `listen is ":7643"`},
		{`952476`, `secret`, "is no SHA-256"},
		{`keep_for = "730 days"`, `keep_for = "ever"`, "keep_for:"},
		{`folder = "state"`, "source = \"harbour\"\ndatabase = \"x\"", "which is no PostgreSQL source"},
		{`dump = ["./store", "dump", "$(reboot)"]`, ``, "the key dump is missing"},
		{`engine = "command"`, `engine = "sqlite"`, `are for the engine "command"`},
		{`limit = "2 h"`, `limit = "2"`, "limit:"},
		{`run = ["mount", "/mnt/barn"]`, `run = "mount"`, "cannot be a text"},
		{`run = ["mount", "/mnt/barn"]`, "run = [\"mount\"]\nshell = \"mount\"", "a step has run and shell"},
		{`user = "ferry"`, `usr = "ferry"`, `there is no key "job.messages.before.usr"`},
		{`rate = "20 MiB/s"`, `rate = "20"`, "rate:"},
		{`tries = 5`, `tries = 99`, "tries is 99"},
		{`priority = "low"`, `priority = "lowest"`, `priority is "lowest"`},
		{`accept = ["same-file-system"]`, `accept = ["Same File System"]`, "is no code of a warning"},
		{`name = "papers"`, `name = "../../etc"`, "a folder cannot be named"},
		{`name = "papers"`, ``, "files: the key name is missing"},
		{`{stamp}-{kind}`, `{kind}-{stamp}`, "does not sort by time"},
		{`source = "harbour"`, `source = "habour"`, `there is no source "habour"`},
	} {
		require.Contains(t, nightly, c.old)
		_, err := Parse([]byte(strings.Replace(nightly, c.old, c.new, 1)), "/etc/x.toml")
		require.ErrorContains(t, err, c.say, c.new)
		require.Equal(t, fault.Usage, fault.Of(err).Class, c.new)
	}
}
