package test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/demo"
)

const jobFile = `timezone = "Atlantic/Faroe"
[source.files]
engine = "sqlite"
path = "data"
[keep.barn]
folder = "barn"
[job.nightly]
source = "files"
keep = "barn"
databases = ["a.db", "odd*"]
optional = ["later*"]
[[job.nightly.check]]
database = "a.db"
sql = "SELECT count(*) FROM t"
answer = "3"
`

// smallJob makes a folder with a configuration and two small databases.
func smallJob(t *testing.T) string {
	dir := filepath.Join(t.TempDir(), "it's a \"path\"\nof lines")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "data"), 0o700))
	makeFile(t, filepath.Join(dir, "data", "a.db"), "CREATE TABLE t (a); INSERT INTO t VALUES (1), (2), (3)")
	makeFile(t, filepath.Join(dir, "data", `odd b c"d'é.db`), "CREATE TABLE u (a); INSERT INTO u VALUES ('x')")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), []byte(jobFile), 0o600))
	return dir
}

func TestScriptContract(t *testing.T) {
	dir := smallJob(t)
	o := run(t, dir, 1, "dump", "nightly")
	require.Contains(t, o.stderr, "there is no folder")
	require.Contains(t, o.stderr, "grainkeep keep create")
	require.NoError(t, os.Mkdir(filepath.Join(dir, "barn"), 0o700))
	require.Contains(t, run(t, dir, 1, "dump", "nightly").stderr, "it may not be mounted")
	run(t, dir, 0, "keep", "create", "barn")

	o = run(t, dir, 3, "dump", "nightly", "-0")
	paths := strings.Split(strings.TrimSuffix(o.stdout, "\x00"), "\x00")
	require.Len(t, paths, 2, "one path a dump, nothing else on standard output")
	for _, p := range paths {
		require.FileExists(t, filepath.Join(p, "manifest.json"))
	}
	require.Contains(t, o.stderr, "matches odd*")
	run(t, dir, 0, "restore", paths[1], "--as", "again.db") // what dump prints can be given to restore
	o = run(t, dir, 3, "dump", "nightly/a.db", "--print", "id", "--quiet")
	require.Empty(t, o.stdout)
	require.Regexp(t, `^warning: [^\n]+same file system[^\n]+\n$`, strings.ReplaceAll(o.stderr, "\nof lines", ""))

	v := result(t, dir, 3, "dump", "nightly")
	require.Len(t, v["result"].(map[string]any)["dumps"], 2)
	id := v["result"].(map[string]any)["dumps"].([]any)[0].(map[string]any)["id"].(string)
	require.Len(t, result(t, dir, 0, "show", id[:10])["result"], 1)
	v = result(t, dir, 0, "drill", "nightly")
	proof := v["result"].([]any)[0].(map[string]any)["proof"].(map[string]any)
	require.Equal(t, true, proof["proven"])
	require.Equal(t, "3", proof["checks"].([]any)[0].(map[string]any)["got"])

	bare := []string{"list", "show", "verify", "restore", "drill"}
	for _, c := range bare { // every reading command works on the bare keep
		args := []string{c, "nightly/a.db", "--from", filepath.Join(dir, "barn")}
		if c == "restore" {
			args = append(args, "--to", ".", "--as", "bare.db")
		}
		run(t, t.TempDir(), 0, args...)
	}
}

func TestMistakesAndTheirAdvice(t *testing.T) {
	dir := smallJob(t)
	run(t, dir, 0, "keep", "create", "barn")
	run(t, dir, 3, "dump", "nightly")
	for _, c := range []struct {
		code   int
		args   string
		say    string
		advice string
	}{
		{2, "dmup", `there is no command "dmup"`, "did you mean dump?"},
		{2, "dump", "dump needs a job", "--from SOURCE --to KEEP"},
		{2, "dump weekly", `there is no job "weekly"`, "the jobs are: nightly"},
		{2, "dump nightly/x.db", `the job does not take a database "x.db"`, "it takes: a.db"},
		{2, "dump nightly --pritn id", "unknown flag", "--help"},
		{2, "dump --from data --to barn --job Nightly", `a job cannot be named "Nightly"`, "small letters"},
		{1, "dump --from data --to data", "exists, but it is not a keep", "add --adopt"},
		{1, "dump --from data --to ./new --database z*", `the entry "z*" of databases matches nothing`,
			"the source has: a.db"},
		{1, "dump --from missing/x.db --to ./new", "there is no SQLite file or folder", "may not be mounted"},
		{2, "dump --from postgres://ann:hunter2@db/app --to new", "the URL holds a password", "~/.pgpass"},
		{1, "dump --from postgres://ann@127.0.0.1:1/app --to new", "cannot reach the server at 127.0.0.1:1",
			"the port and the firewall"},
		{2, "show nightly/z.db", "there is no dump of the database", "there are: nightly/a.db"},
		{2, "show nightly/a.db --at 2001-01-01", "no dump of 2001-01-01", "--at "},
		{2, "show nightly/a.db --at noon", "is not a moment", ""},
		{2, "show nightly/a.db --at 2026-10-25T01:30", "was twice", ""},
		{2, "restore nightly --as x.db", "nightly means 2 dumps", "nightly/a.db"},
		{2, "restore nightly/a.db --owners yours", `--owners is "yours"`, "kept or mine"},
		{2, "restore ./data", "is not a dump: it has no manifest.json", ""},
		{1, "restore nightly/a.db", "exists already", "--as NAME, or add --replace"},
		{2, "list --from", "flag needs an argument", ""},
		{2, "keep create bran", `there is no keep "bran" in the configuration`, "for a new folder write ./bran"},
		{2, "dump --from data --to bran", `there is no keep "bran"`, "the keeps are: barn"},
		{1, "keep create data", "holds other things", "--adopt"},
		{2, "grants files", "SQLite has no users", ""},
		{2, "init a b", `does not take "b"`, ""},
		{2, "--config none.toml list", "cannot read the configuration", "grainkeep init"},
	} {
		o := run(t, dir, c.code, strings.Fields(c.args)...)
		require.Contains(t, o.stderr, c.say, c.args)
		require.Contains(t, o.stderr, c.advice, c.args)
		require.NotContains(t, o.stdout+o.stderr, "hunter2")
		require.LessOrEqual(t, strings.Count(strings.ReplaceAll(o.stderr, "\nof lines", ""), "\n"), 3,
			"one or two lines: %s", o.stderr)
		v := result(t, dir, c.code, strings.Fields(c.args)...)
		require.NotEmpty(t, v["error"].(map[string]any)["code"], c.args)
	}
	_, err := os.Stat(filepath.Join(dir, "new"))
	require.NoError(t, err, "the keep is created before the source is asked")

	run(t, dir, 0, "init", "starter.toml")
	require.Contains(t, run(t, dir, 1, "init", "starter.toml").stderr, "exists already; it was not touched")
	bad := strings.Replace(jobFile, "databases =", "databsaes =", 1)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "bad.toml"), []byte(bad), 0o600))
	o := run(t, dir, 2, "--config", "bad.toml", "list")
	require.Regexp(t,
		regexp.MustCompile(`bad.toml, line 10: there is no key "job.nightly.databsaes"\n  → did you mean "databases"\?`), o.stderr)
}

func TestCheckThatFails(t *testing.T) {
	dir := smallJob(t)
	run(t, dir, 0, "keep", "create", "barn")
	run(t, dir, 3, "dump", "nightly")
	file := filepath.Join(dir, "grainkeep.toml")
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(jobFile, `answer = "3"`, `answer = "4"`, 1)), 0o600))
	o := run(t, dir, 5, "drill", "nightly/a.db")
	require.Contains(t, o.stdout, `answers "3" instead of "4"`)
	require.Contains(t, run(t, dir, 0, "list", "nightly/a.db").stdout, "failed its drill")
}

func TestRunningTwiceAndSurvey(t *testing.T) {
	dir := smallJob(t)
	run(t, dir, 0, "keep", "create", "barn")
	makeFile(t, filepath.Join(dir, "data", "later.db"), "CREATE TABLE t (a)")
	db, err := demo.OpenSQLite(filepath.Join(dir, "data", "later.db"))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec("BEGIN EXCLUSIVE")
	require.NoError(t, err)
	cmd, _, wait := command(dir, "dump", "nightly") // it waits for the lock on later.db
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		_, err := os.Stat(filepath.Join(dir, "barn", ".work", "job-nightly.lease"))
		return err == nil
	}, patience, tick)
	o := run(t, dir, 6, "dump", "nightly")
	require.Regexp(t, `the job nightly is already running: process \d+ on `, o.stderr)
	_, err = db.Exec("COMMIT")
	require.NoError(t, err)
	require.Equal(t, 3, wait().code)

	o = run(t, dir, 3, "survey", "nightly")
	for _, say := range []string{"named", "matches odd*", "matches later*", "a run takes", "rollback journal"} {
		require.Contains(t, o.stdout, say)
	}
	require.Contains(t, o.stderr, "on the same file system as the data")
}
