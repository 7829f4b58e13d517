package test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/testserver"
)

// sealWorld is a folder with a database that has secrets in its names and rows, two keys, and a configuration.
type sealWorld struct {
	t   *testing.T
	dir string
	env []string
}

func newSealWorld(t *testing.T, keeps string) *sealWorld {
	w := &sealWorld{t: t, dir: t.TempDir()}
	sh(t, w.dir, `sqlite3 harbour.db "CREATE TABLE secret_ledger (id INTEGER PRIMARY KEY, hidden_column TEXT);
		INSERT INTO secret_ledger SELECT value, 'confidential ' || value FROM generate_series(1, 20000)"
		mkdir out; mkdir out2`)
	office := lines(run(t, w.dir, 0, "key", "office.key").stdout)[0]
	safe := lines(run(t, w.dir, 0, "key", "safe.key").stdout)[0]
	w.configure(strings.NewReplacer("OFFICE", office, "SAFE", safe).Replace(keeps))
	return w
}

func (w *sealWorld) configure(keeps string) {
	w.t.Helper()
	require.NoError(w.t, os.WriteFile(filepath.Join(w.dir, "grainkeep.toml"), []byte(keeps+`
[journal]
folder = "state"
[source.quay]
engine = "sqlite"
path = "."
[job.nightly]
source = "quay"
databases = ["harbour.db"]
keep = "barn"
skip_tables = ["never_said"]
incremental = "each 15 min"
full = "02:30 on sunday"
`), 0o600))
}

func (w *sealWorld) run(code int, args ...string) *outcome {
	w.t.Helper()
	return away{env: w.env}.run(w.t, w.dir, code, args...)
}

// change changes a row, and takes an increment.
func (w *sealWorld) change(n int) {
	w.t.Helper()
	time.Sleep(time.Second) // dumps are told apart by their folders' names
	sh(w.t, w.dir, fmt.Sprintf("sqlite3 harbour.db \"UPDATE secret_ledger SET hidden_column = 'altered' WHERE id = %d\"", n))
	w.run(-1, "dump", "nightly", "--kind", "incremental")
}

// back restores the newest dump with a key, and holds it against the database.
func (w *sealWorld) back(from, key string) {
	w.t.Helper()
	w.run(0, "restore", "nightly/harbour.db", "--from", from, "--key", key, "--to", w.dir, "--as", "back.db")
	w.same("back.db")
}

func (w *sealWorld) same(file string) {
	w.t.Helper()
	const all = " 'SELECT * FROM secret_ledger' | sha256sum"
	require.Equal(w.t, sh(w.t, w.dir, "sqlite3 harbour.db"+all), sh(w.t, w.dir, "sqlite3 "+file+all))
	require.NoError(w.t, os.Remove(filepath.Join(w.dir, file)))
}

// secrets are words of the database that nobody may find in a sealed keep.
var secrets = regexp.MustCompile(`secret_ledger|hidden_column|confidential|altered|never_said|20,?000`)

// tellsNothing looks for the secrets in each file of a keep, and for what is not sealed and should be.
func (w *sealWorld) tellsNothing(keep string) {
	w.t.Helper()
	files := 0
	require.NoError(w.t, filepath.WalkDir(keep, func(path string, d os.DirEntry, err error) error {
		require.NoError(w.t, err)
		require.False(w.t, secrets.MatchString(d.Name()), path)
		if d.IsDir() {
			return nil
		}
		text, err := os.ReadFile(path)
		require.NoError(w.t, err)
		if !strings.HasSuffix(path, ".age") {
			require.Empty(w.t, secrets.FindString(string(text)), path)
		} else {
			files++
			require.True(w.t, strings.HasPrefix(string(text), "age-encryption.org/v1\n"), path)
		}
		return nil
	}))
	require.Greater(w.t, files, 10)
}

// byHand opens a sealed dump by the lines of its README, and restores it by those that are inside.
func (w *sealWorld) byHand(dump, key string) {
	w.t.Helper()
	inside := unsealedByHand(w.t, dump, filepath.Join(w.dir, key))
	home := w.t.TempDir()
	byHand(w.t, inside, strings.NewReplacer(), "HOME="+home)
	found, err := filepath.Glob(filepath.Join(home, "*.db"))
	require.NoError(w.t, err)
	require.Len(w.t, found, 1)
	sh(w.t, w.dir, "cp "+found[0]+" by-hand.db")
	w.same("by-hand.db")
	run(w.t, w.dir, 0, "verify", inside)
}

// sealedFor makes two keys, and gives the options that seal for them.
func sealedFor(t *testing.T, dir string) (options []string) {
	for _, key := range []string{"office.key", "safe.key"} {
		options = append(options, "--seal", lines(run(t, dir, 0, "key", key).stdout)[0])
	}
	return options
}

// unsealedByHand opens a sealed dump, and those on which it builds, by the lines of its README; it is then an ordinary one.
func unsealedByHand(t *testing.T, dump, key string) (inside string) {
	t.Helper()
	open := t.TempDir()
	inside = strings.TrimSpace(sh(t, dump, handScript(t, dump)+"\npwd", "KEY="+key, "OPEN="+open))
	require.Contains(t, inside, open)
	return inside
}

// newestIn is the newest dump's folder of a keep.
func (w *sealWorld) newestIn(keep string) string {
	w.t.Helper()
	found, err := filepath.Glob(filepath.Join(keep, "nightly/harbour.db/*"))
	require.NoError(w.t, err)
	require.NotEmpty(w.t, found)
	return found[len(found)-1]
}

// TestSealedInABucket: a chain is sealed before its first byte leaves this machine, which has no key that opens it; others
// list, verify and copy it, and whoever has a key has the data, with the program or without.
func TestSealedInABucket(t *testing.T) {
	s, err := testserver.StartS3(ownFolder(t))
	if err != nil {
		t.Skip(err)
	}
	t.Cleanup(func() { s.Close() })
	url := s.URL("barn", "dumps")
	place, _, _ := strings.Cut(url, "?")
	w := newSealWorld(t, fmt.Sprintf("[keep.barn]\nstore = %q\nendpoint = \"http://127.0.0.1:%d\"\nregion = \"us-east-1\"\n"+
		"seal = [\"OFFICE office\", \"SAFE safe\"]\n", place, s.Port))
	w.env = []string{"AWS_ACCESS_KEY_ID=" + testserver.S3User, "AWS_SECRET_ACCESS_KEY=" + testserver.S3Secret}
	w.run(-1, "keep", "create", "barn")
	w.run(-1, "dump", "nightly", "--kind", "full", "--new-baseline")
	for n := range 2 {
		w.change(n + 7)
	}
	require.Contains(t, w.run(0, "list", "--all").stdout, "incremental")
	w.tellsNothing(s.Path("barn", "dumps"))

	// Another machine, which knows nothing.
	w.env = append(w.env, "GRAINKEEP_CONFIG=")
	require.NoError(t, os.Rename(filepath.Join(w.dir, "grainkeep.toml"), filepath.Join(w.dir, "gone.toml")))
	require.Contains(t, w.run(0, "list", "--from", url).stdout, "sealed")
	require.Contains(t, w.run(0, "show", "nightly/harbour.db", "--from", url).stdout, "safe")
	w.run(0, "verify", "nightly", "--from", url)
	w.run(0, "copy", "nightly", "--from", url, "--to", "./here")
	restore := []string{"restore", "nightly/harbour.db", "--from", url, "--to", w.dir, "--as", "back.db"}
	o := w.run(1, restore...)
	require.Contains(t, o.stderr, "no key that opens it is here")
	run(t, w.dir, 0, "key", "other.key")
	require.Contains(t, w.run(1, append(restore, "--key", "other.key")...).stderr, "no key that opens it is here")
	w.run(0, "drill", "nightly", "--from", url, "--to", "out", "--key", "safe.key")
	w.tellsNothing(s.Path("barn", "dumps")) // the proof too
	w.back(url, "office.key")
	w.back("./here", "safe.key")

	// With stock programs only.
	fetched := filepath.Join(w.dir, "fetched/nightly/harbour.db")
	folders, err := filepath.Glob(filepath.Join(s.Path("barn", "dumps"), "nightly/harbour.db/*"))
	require.NoError(t, err)
	for _, folder := range folders {
		sh(t, w.dir, fmt.Sprintf(`mkdir -p %[1]s; cd %[1]s
get() { curl -sS --fail-with-body -H "x-amz-content-sha256: UNSIGNED-PAYLOAD" \
	--aws-sigv4 aws:amz:us-east-1:s3 --user %[2]s:%[3]s -o "$1" http://127.0.0.1:%[4]d/barn/dumps/nightly/harbour.db/%[5]s/$1; }
get SHA256SUMS
while read -r sum name; do get $name; done < SHA256SUMS`, filepath.Join(fetched, filepath.Base(folder)), testserver.S3User,
			testserver.S3Secret, s.Port, filepath.Base(folder)))
	}
	w.byHand(w.newestIn(filepath.Join(w.dir, "fetched")), "office.key")

	// Damage of what is sealed is damage.
	path := w.newestIn(filepath.Join(w.dir, "here"))
	for _, name := range []string{"dump-key.age", "names.age", "000003.age"} {
		file := filepath.Join(path, name)
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		bad := append([]byte{}, text...)
		bad[len(bad)/2] ^= 1
		require.NoError(t, os.WriteFile(file, bad, 0o600))
		require.Contains(t, run(t, w.dir, 5, "verify", "nightly", "--from", "here").stdout, name)
		if name != "000003.age" { // of the others everything depends on them
			run(t, w.dir, 5, "drill", "nightly", "--from", "here", "--to", "out", "--key", "safe.key")
		}
		require.NoError(t, os.WriteFile(file, text, 0o600))
	}
}

// TestSealedOnTheWay: what lies open here is sealed on its way to another keep, is the same dump there, and can be given to
// others.
func TestSealedOnTheWay(t *testing.T) {
	const keeps = "[keep.barn]\nfolder = \"barn\"\n[keep.vault]\nfolder = \"vault\"\nseal = [\"OFFICE office\", \"SAFE safe\"]\n"
	w := newSealWorld(t, keeps)
	w.run(-1, "keep", "create", "barn")
	w.run(-1, "keep", "create", "vault")
	w.run(-1, "dump", "nightly", "--kind", "full", "--new-baseline")
	w.run(-1, "copy", "nightly", "--to", "vault")
	w.change(3)
	w.change(4)
	w.run(0, "drill", "nightly", "--to", "out")
	require.Len(t, lines(w.run(-1, "copy", "--all", "--to", "vault").stdout), 2)
	require.Contains(t, w.run(-1, "copy", "--all", "--to", "vault").stderr, "Nothing to copy")
	vault := filepath.Join(w.dir, "vault")
	w.tellsNothing(vault)
	listed := w.run(0, "list", "--all").stdout
	require.Equal(t, 3, strings.Count(listed, "  2\n"), "each dump is there twice:\n%s", listed)
	require.Contains(t, w.run(0, "list", "--from", "vault", "--all").stderr, "0 proven",
		"that the keys open it is still to be proven")

	// Another key takes the place of a lost one.
	run(t, w.dir, 0, "key", "new.key")
	sheet := run(t, w.dir, 0, "key", "new.key", "--sheet").stdout
	public := regexp.MustCompile(`(?m)^age1\S+$`).FindString(sheet)
	require.NotEmpty(t, public)
	safe := regexp.MustCompile(`(?m)^age1\S+$`).FindString(run(t, w.dir, 0, "key", "safe.key", "--sheet").stdout)
	w.configure(strings.NewReplacer("OFFICE", public, "SAFE", safe).Replace(keeps))
	require.Contains(t, w.run(1, "reseal", "nightly", "--from", "vault", "--key", "new.key").stderr, "no key that opens it is here")
	require.Len(t, lines(w.run(0, "reseal", "--all", "--from", "vault", "--key", "safe.key", "--drop-old").stdout), 3)
	found, err := filepath.Glob(filepath.Join(vault, "nightly/harbour.db/*"))
	require.NoError(t, err)
	require.Len(t, found, 3, "the old ones are gone")
	require.NoError(t, os.RemoveAll(filepath.Join(w.dir, "barn")))
	w.run(1, "restore", "nightly/harbour.db", "--from", "vault", "--key", "office.key", "--to", w.dir, "--as", "back.db")
	w.back("vault", "new.key")
	w.run(0, "drill", "nightly", "--from", "vault", "--key", "safe.key", "--to", "out")
	w.run(0, "verify", "nightly", "--from", "vault")
	w.byHand(w.newestIn(vault), "new.key")
}

// TestTheMemoryOfSealedDumps: what the next increment needs is sealed on this machine too, and where it is lost, or not
// what it was, a full is taken.
func TestTheMemoryOfSealedDumps(t *testing.T) {
	w := newSealWorld(t, "[keep.barn]\nfolder = \"barn\"\nseal = [\"OFFICE\", \"SAFE\"]\n")
	w.run(-1, "keep", "create", "barn")
	w.run(-1, "dump", "nightly", "--kind", "full", "--new-baseline")
	w.change(3)
	state := filepath.Join(w.dir, "state/sealed")
	require.Empty(t, sh(t, w.dir, "grep -rlE 'secret_ledger|hidden_column' state/sealed || true"))
	kinds := func() string {
		return strings.Join(regexp.MustCompile(`full|incremental`).FindAllString(w.run(0, "list", "--all").stdout, -1), " ")
	}
	w.change(4)
	require.Equal(t, "full incremental incremental", kinds())
	sh(t, w.dir, "find state/sealed -name manifest -exec truncate -s -5 {} +")
	sh(t, w.dir, "sqlite3 harbour.db 'DELETE FROM secret_ledger WHERE id = 9'")
	o := w.run(-1, "dump", "nightly", "--kind", "incremental")
	require.Contains(t, o.stderr, "a full dump is taken")
	w.change(5) // which builds on that
	require.NoError(t, os.RemoveAll(state))
	require.Contains(t, w.run(-1, "dump", "nightly", "--kind", "incremental").stderr, "no key that opens it is here")
	require.NoError(t, os.RemoveAll(state))
	require.NotContains(t, w.run(-1, "dump", "nightly", "--kind", "incremental", "--key", "safe.key").stderr, "a full dump is taken",
		"with a key there is no need of it")
	left, err := filepath.Glob(filepath.Join(state, "*/nightly/harbour.db/*"))
	require.NoError(t, err)
	require.Len(t, left, 1, "of older chains nothing is remembered: %s", left)
	w.back("barn", "office.key")
}

// TestSealsThatCannotBe: what is said of a seal that is none.
func TestSealsThatCannotBe(t *testing.T) {
	t.Parallel()
	for seal, says := range map[string]string{
		`["OFFICE"]`:                                          "seal has one recipient",
		`["age1nonsense", "OFFICE"]`:                          "it is no such public key",
		`["AGE-SECRET-KEY-1XYZ", "OFFICE"]`:                   "it is a private key",
		`["passphrase:file:x", "OFFICE"]`:                     "a passphrase cannot be one recipient among several",
		`["OFFICE", "file:absent.txt"]`:                       "no such file",
		"[\"OFFICE\"]\none_recipient = true\nsign=\"absent\"": "absent cannot be read",
	} {
		w := newSealWorld(t, "[keep.barn]\nfolder = \"barn\"\nseal = "+seal+"\n")
		sh(t, w.dir, "mkdir barn")
		run(t, w.dir, 0, "keep", "create", filepath.Join(w.dir, "barn"), "--config", "/dev/null")
		cmd, _, wait := command(w.dir, "dump", "nightly")
		require.NoError(t, cmd.Start())
		o := wait()
		require.NotZero(t, o.code, seal)
		require.Contains(t, o.stderr, says, seal)
		found, err := filepath.Glob(filepath.Join(w.dir, "barn/nightly/*/*"))
		require.NoError(t, err)
		require.Empty(t, found, seal)
	}
}

// TestSigned: what a keep demands to be signed, stock programs can check, and what somebody planted or rebuilt is refused
// by name.
func TestSigned(t *testing.T) {
	const keeps = "[keep.barn]\nfolder = \"barn\"\nsign = \"sign.key\"\nsigned_by = [\"file:sign.key.pub\"]\n"
	w := newSealWorld(t, keeps)
	public := strings.Fields(run(t, w.dir, 0, "key", "sign.key", "--sign").stdout)
	w.run(-1, "keep", "create", "barn")
	w.run(-1, "dump", "nightly", "--kind", "full", "--new-baseline")
	w.change(3)
	w.run(0, "drill", "nightly", "--to", "out")
	barn := filepath.Join(w.dir, "barn")
	dump := w.newestIn(barn)
	require.Contains(t, w.run(0, "show", "nightly/harbour.db").stdout, "signed")
	w.run(0, "verify")

	sh(t, w.dir, fmt.Sprintf("echo 'quay %s %s' > allowed", public[0], public[1]))
	check := "ssh-keygen -Y verify -f allowed -I quay -n grainkeep -s %[1]s.sig < %[1]s"
	proofs, err := filepath.Glob(filepath.Join(barn, "proofs/*/*.json"))
	require.NoError(t, err)
	require.Len(t, proofs, 1)
	for _, file := range []string{filepath.Join(dump, "manifest.json"), proofs[0]} {
		require.Contains(t, sh(t, w.dir, fmt.Sprintf(check, file)), "Good \"grainkeep\" signature")
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		require.Contains(t, string(text), `"signed":`)
	}

	// Somebody with a key of their own makes a dump, rebuilt with digests and all, and puts it in the place of the newest.
	other := newSealWorld(t, "[keep.barn]\nfolder = \"barn\"\nsign = \"sign.key\"\n")
	run(t, other.dir, 0, "key", "sign.key", "--sign")
	other.run(-1, "keep", "create", "barn")
	other.run(-1, "dump", "nightly", "--kind", "full", "--new-baseline")
	planted := filepath.Join(barn, "nightly/harbour.db", "29990101T000000Z-full")
	sh(t, w.dir, "cp -r "+other.newestIn(filepath.Join(other.dir, "barn"))+" "+planted)
	for _, x := range [][2]string{
		{"true", "which is not one that is trusted here"},
		{"rm PLANTED/manifest.json.sig", "it is not signed"},
		{"cp DUMP/manifest.json.sig PLANTED/manifest.json.sig", "is not of these bytes"},
		{"echo nonsense > PLANTED/manifest.json.sig", "its signature is none"},
	} {
		what, says := x[0], x[1]
		sh(t, w.dir, strings.NewReplacer("PLANTED", planted, "DUMP", dump).Replace(what))
		o := w.run(3, "list", "--all")
		require.Contains(t, o.stderr, says, what)
		require.Contains(t, o.stderr, planted, what)
		for _, args := range [][]string{{"restore", "nightly/harbour.db", "--to", w.dir, "--as", "back.db"},
			{"drill", "nightly", "--to", "out"}, {"restore", planted, "--to", w.dir, "--as", "back.db", "--from", "barn"}} {
			require.NoFileExists(t, filepath.Join(w.dir, "back.db"))
			cmd, _, wait := command(w.dir, args...)
			require.NoError(t, cmd.Start())
			require.NotZero(t, wait().code, "%s: %s", what, args)
		}
	}
	require.NoError(t, os.RemoveAll(planted))

	// A proof that nobody signed is none.
	require.NoError(t, os.Remove(proofs[0]+".sig"))
	require.NotContains(t, w.run(3, "list", "--all").stdout, " proven ")
	w.run(0, "drill", "nightly", "--to", "out")
	require.Contains(t, w.run(0, "list").stdout, " proven ")
}

// TestCopiesHaveTheirTimes: a job copies when it says, and its drills take the dumps of its keeps in turns.
func TestCopiesHaveTheirTimes(t *testing.T) {
	w := newSealWorld(t, "keys = [\"safe.key\"]\n[keep.barn]\nfolder = \"barn\"\n[keep.vault]\nfolder = \"vault\"\n"+
		"seal = [\"OFFICE\", \"SAFE\"]\n")
	text, err := os.ReadFile(filepath.Join(w.dir, "grainkeep.toml"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "grainkeep.toml"), append(text, []byte("copy_to = [\"vault\"]\n"+
		"copy = \"05:00\"\ndrill = \"06:00\"\ndrill_from = [\"barn\", \"vault\"]\n")...), 0o600))
	w.run(-1, "keep", "create", "barn")
	w.run(-1, "keep", "create", "vault")
	require.NotContains(t, w.run(-1, "dump", "nightly").stderr, "Copying")
	require.Contains(t, w.run(0, "schedule", "nightly", "--next", "150").stdout, " copy ")
	require.Contains(t, w.run(0, "schedule", "export", "--as", "crontab").stdout, " copy nightly")
	require.Contains(t, w.run(0, "copy", "nightly").stderr, "Copying 1 dump to ")
	var turns []string
	for range 4 {
		turns = append(turns, regexp.MustCompile(`From the keep (\w+)`).FindStringSubmatch(w.run(0, "drill", "nightly").stderr)[1])
	}
	require.Equal(t, []string{"barn", "vault", "barn", "vault"}, turns)
	require.NoError(t, os.RemoveAll(filepath.Join(w.dir, "barn/proofs")))
	require.Contains(t, w.run(0, "status").stdout, " proven ", "the copy's proof counts")
}

// TestAMachineThatCannotRemember: a sealed dump is as good where this machine has no place for what the next one needs.
func TestAMachineThatCannotRemember(t *testing.T) {
	w := newSealWorld(t, "[keep.barn]\nfolder = \"barn\"\nseal = [\"OFFICE\", \"SAFE\"]\n")
	w.run(-1, "keep", "create", "barn")
	require.NoError(t, os.MkdirAll(filepath.Join(w.dir, "state"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "state/sealed"), nil, 0o600))
	require.Contains(t, w.run(3, "dump", "nightly", "--kind", "full", "--new-baseline").stderr, "the next dump will be a full")
	require.Contains(t, w.run(3, "dump", "nightly", "--kind", "incremental").stderr, "a full dump is taken")
	require.NoError(t, os.Remove(filepath.Join(w.dir, "state/sealed")))
	w.back("barn", "safe.key")
}
