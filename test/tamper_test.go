package test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"grainkeep/internal/manifest"
	"grainkeep/internal/record"
	"grainkeep/internal/testserver"
)

// barn is a job of SQLite files with one dump of each, in a folder whose keep the tests
// tamper with as somebody would who can write to it and compute every digest.
type barn struct {
	t    *testing.T
	dir  string
	keep string
	dump string // of a.db
}

const barnJob = `[source.files]
engine = "sqlite"
path = "data"
[keep.barn]
folder = "barn"
[job.nightly]
source = "files"
keep = "barn"
compression = "COMPRESSION"
[[job.nightly.check]]
database = "a.db"
sql = "SELECT count(*) FROM t"
answer = "3"
`

func newBarn(t *testing.T, compression string) *barn {
	t.Helper()
	b := &barn{t: t, dir: t.TempDir()}
	b.keep = filepath.Join(b.dir, "barn")
	require.NoError(t, os.Mkdir(filepath.Join(b.dir, "data"), 0o700))
	makeFile(t, filepath.Join(b.dir, "data", "a.db"),
		"CREATE TABLE t (a); INSERT INTO t VALUES (1), (2), (3); CREATE INDEX i ON t (a); CREATE VIEW v AS SELECT "+
			"a FROM t")
	makeFile(t, filepath.Join(b.dir, "data", "live.db"), "CREATE TABLE u (a); INSERT INTO u VALUES ('precious')")
	config := strings.Replace(barnJob, "COMPRESSION", compression, 1)
	require.NoError(t, os.WriteFile(filepath.Join(b.dir, "grainkeep.toml"), []byte(config), 0o600))
	run(t, b.dir, 0, "keep", "create", "barn")
	b.dump = lines(b.run(3, "dump", "nightly").stdout)[0]
	return b
}

// run runs the program, which must end by itself and soon: nothing in a keep hangs it.
func (b *barn) run(code int, args ...string) *outcome {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 3*patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Dir = b.dir
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + b.dir, "TZ=UTC", "TMPDIR=" + b.t.TempDir()}
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	_ = cmd.Run() // its exit code is looked at
	require.NoError(b.t, ctx.Err(), "it hangs: %q", args)
	o := &outcome{stdout.String(), stderr.String(), cmd.ProcessState.ExitCode()}
	require.NotContains(b.t, o.stderr, "panic", "%q", args)
	require.NotContains(b.t, o.stderr, "defect", "%q", args)
	if code >= 0 {
		require.Equal(b.t, code, o.code, "%q\n%s%s", args, o.stdout, o.stderr)
	}
	return o
}

// retell rewrites the dump's manifest and sums to fit its files as they are now, after a
// change of the manifest's own, and the keep's records to fit the new id.
func (b *barn) retell(change func(m *manifest.Manifest)) {
	b.t.Helper()
	path := filepath.Join(b.dump, manifest.Name)
	data, err := os.ReadFile(path)
	require.NoError(b.t, err)
	m, old, err := manifest.Decode(data)
	require.NoError(b.t, err)
	m.StoredBytes, m.RawBytes = 0, 0
	for i := range m.Files {
		f := &m.Files[i]
		if data, err := os.ReadFile(filepath.Join(b.dump, f.Path)); err == nil {
			if m.Compression == "none" {
				f.Raw = int64(len(data))
			}
			sum := sha256.Sum256(data)
			f.Bytes, f.SHA256 = int64(len(data)), hex.EncodeToString(sum[:])
		}
		m.StoredBytes += f.Bytes
		m.RawBytes += f.Raw
	}
	if change != nil {
		change(m)
	}
	data, id, err := record.Encode(m) // not the manifest's own: that would refuse
	require.NoError(b.t, err)
	require.NoError(b.t, os.WriteFile(path, data, 0o600))
	require.NoError(b.t, os.WriteFile(filepath.Join(b.dump, manifest.Sums), []byte(m.SumLines(id)), 0o600))
	runs, err := filepath.Glob(filepath.Join(b.keep, "runs", "*.json"))
	require.NoError(b.t, err)
	for _, r := range runs {
		text, err := os.ReadFile(r)
		require.NoError(b.t, err)
		var v map[string]any
		require.NoError(b.t, record.Decode(text, &v))
		delete(v, "sha256_of_the_lines_above")
		text, err = json.Marshal(v)
		require.NoError(b.t, err)
		require.NoError(b.t, json.Unmarshal(bytes.ReplaceAll(text, []byte(old), []byte(id)), &v))
		text, _, err = record.Encode(v)
		require.NoError(b.t, err)
		require.NoError(b.t, os.WriteFile(r, text, 0o600))
	}
}

// put writes a file of the dump.
func (b *barn) put(name string, data []byte) {
	b.t.Helper()
	require.NoError(b.t, os.WriteFile(filepath.Join(b.dump, name), data, 0o600))
}

func (b *barn) file(name string) []byte {
	b.t.Helper()
	data, err := os.ReadFile(filepath.Join(b.dump, name))
	require.NoError(b.t, err)
	return data
}

// objects changes the list of objects of an uncompressed dump.
func (b *barn) objects(change func(list []manifest.ObjectEntry) []manifest.ObjectEntry) {
	b.t.Helper()
	var list []manifest.ObjectEntry
	require.NoError(b.t, json.Unmarshal(b.file("objects.json"), &list))
	data, err := json.Marshal(change(list))
	require.NoError(b.t, err)
	b.put("objects.json", data)
}

// reading are the commands that read a keep.
var reading = [][]string{{"list"}, {"show", "nightly/a.db"}, {"verify"}, {"verify", "nightly/a.db"}, {"drill",
	"nightly/a.db"},
	{"restore", "nightly/a.db", "--as", "new.db"}}

// TestLinksInAKeepLeadNowhere: whatever is a link in a keep, nothing elsewhere is
// written, removed or read through it.
func TestLinksInAKeepLeadNowhere(t *testing.T) {
	t.Parallel()
	for _, name := range []string{".work", "proofs", "jobs", "runs", "nightly", "nightly/a.db"} {
		t.Run(strings.ReplaceAll(name, "/", "_"), func(t *testing.T) {
			b := newBarn(t, "zstd")
			away := filepath.Join(t.TempDir(), "somebody's")
			dead := filepath.Join(away, "deaddeaddead")
			require.NoError(t, os.MkdirAll(dead, 0o700))
			require.NoError(t, os.WriteFile(filepath.Join(dead, "letter"), []byte("dear"), 0o600))
			at := filepath.Join(b.keep, name)
			require.NoError(t, os.RemoveAll(at))
			require.NoError(t, os.Symlink(away, at))
			for _, args := range append(reading, []string{"dump", "nightly"}) {
				b.run(-1, args...)
			}
			require.NotZero(t, b.run(-1, "dump", "nightly").code, "that is told")
			var found []string
			require.NoError(t, filepath.WalkDir(away, func(p string, _ fs.DirEntry, err error) error {
				found = append(found, strings.TrimPrefix(p, away))
				return err
			}))
			require.Equal(t, []string{"", "/deaddeaddead", "/deaddeaddead/letter"}, found)
		})
	}
	b := newBarn(t, "zstd")
	letter := filepath.Join(t.TempDir(), "letter")
	require.NoError(t, os.WriteFile(letter, []byte("dear"), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(b.keep, ".work"), 0o700))
	require.NoError(t, os.Symlink(letter, filepath.Join(b.keep, ".work", "job-nightly.lease")))
	require.Contains(t, b.run(1, "dump", "nightly").stderr, "is not a regular file")
	data, err := os.ReadFile(letter)
	require.NoError(t, err)
	require.Equal(t, "dear", string(data), "a link in place of a lock is not written through")
}

// TestPipesInAKeepHangNothing puts a pipe in the place of every file of a keep.
func TestPipesInAKeepHangNothing(t *testing.T) {
	t.Parallel()
	var names []string
	whole := newBarn(t, "zstd")
	whole.run(0, "drill", "nightly/a.db")
	require.NoError(t, filepath.WalkDir(whole.keep, func(p string, d fs.DirEntry, err error) error {
		if !d.IsDir() && (!strings.Contains(p, "live.db") || strings.HasSuffix(p, manifest.Name)) {
			names = append(names, strings.TrimPrefix(p, whole.keep+"/"))
		}
		return err
	}))
	require.Greater(t, len(names), 12)
	for _, name := range names {
		path := filepath.Join(whole.keep, name)
		if strings.HasPrefix(name, "proofs/") { // only the newest counts
			sh(t, filepath.Dir(path), "ls | grep -vFx '"+filepath.Base(path)+"' | xargs rm -f")
		}
		require.NoError(t, os.Rename(path, path+".real"))
		sh(t, whole.dir, `mkfifo "$P"`, "P="+path)
		bad := 0
		for _, args := range append(reading[:4:4], []string{"drill", "nightly/a.db"}) {
			if whole.run(-1, args...).code != 0 {
				bad++
			}
		}
		require.Positive(t, bad, "a pipe in place of %s is seen", name)
		if strings.Contains(name, "grainkeep.json") || strings.HasSuffix(name, manifest.Name) ||
			strings.HasPrefix(name, "runs") {
			whole.run(-1, "dump", "nightly/a.db")
		}
		require.NoError(t, os.Remove(path))
		require.NoError(t, os.Rename(path+".real", path))
	}
}

// TestManifestsThatLie: paths, sizes, offsets and needs that are not possible are
// damage, in every command, within bounds of time and memory.
func TestManifestsThatLie(t *testing.T) {
	t.Parallel()
	bomb := func() []byte { // small, and unpacks to 2 GiB
		var b bytes.Buffer
		w, err := zstd.NewWriter(&b, zstd.WithWindowSize(1<<20))
		require.NoError(t, err)
		zeros := bytes.Repeat([]byte{' '}, 64<<20)
		for range 32 {
			_, err := w.Write(zeros)
			require.NoError(t, err)
		}
		require.NoError(t, w.Close())
		return b.Bytes()
	}
	for name, c := range map[string]struct {
		compression string
		harm        func(b *barn)
		say         string
	}{
		"path": {"none", func(b *barn) {
			b.retell(func(m *manifest.Manifest) { m.Files[0].Path = "../../../../data/live.db" })
		}, "leads elsewhere"},
		"absolute": {"none", func(b *barn) {
			b.retell(func(m *manifest.Manifest) { m.Files[0].Path = "/etc/passwd" })
		}, "empty part"},
		"link": {"none", func(b *barn) {
			require.NoError(t, os.Remove(filepath.Join(b.dump, "10-schema.sql")))
			require.NoError(t, os.Symlink(filepath.Join(b.dir, "data", "live.db"), filepath.Join(b.dump,
				"10-schema.sql")))
			b.retell(nil)
		}, "is not a regular file"},
		"device": {"none", func(b *barn) {
			require.NoError(t, os.Remove(filepath.Join(b.dump, "10-schema.sql")))
			require.NoError(t, os.Symlink("/dev/zero", filepath.Join(b.dump, "10-schema.sql")))
		}, "is not a regular file"},
		"negative": {"none", func(b *barn) {
			b.retell(func(m *manifest.Manifest) { m.StoredBytes, m.RawBytes = -1<<63, -1<<63 })
		}, "not the sum"},
		"sparse": {"none", func(b *barn) {
			require.NoError(t, os.Truncate(filepath.Join(b.dump, manifest.Name), 8<<30))
		}, "at most"},
		"deep": {"none", func(b *barn) {
			b.put(manifest.Name, []byte(strings.Repeat("[", 12<<20)))
		}, "damaged"},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBarn(t, c.compression)
			c.harm(b)
			told := ""
			if name == "sparse" {
				require.LessOrEqual(t, peak(t, b.dir, 5, "drill", "nightly/a.db"), int64(96<<20))
			}
			for _, args := range reading {
				o := b.run(-1, args...)
				told += o.stdout + o.stderr
				if args[0] != "show" && (args[0] != "list" || name != "link" && name != "device") {
					require.NotZero(t, o.code, "%q", args)
				}
			}
			require.Contains(t, told, c.say)
			require.NoFileExists(t, filepath.Join(b.dir, "data", "new.db"))
		})
	}
	// What is only seen when it is restored.
	for name, c := range map[string]struct {
		compression string
		harm        func(b *barn)
		say         string
	}{
		"offset": {"none", func(b *barn) {
			b.objects(func(l []manifest.ObjectEntry) []manifest.ObjectEntry { l[0].Offset = 1<<63 - 10; return l })
		}, "points outside"},
		"ring": {"none", func(b *barn) {
			b.objects(func(l []manifest.ObjectEntry) []manifest.ObjectEntry {
				for i := range l {
					if l[i].Kind == "index" || l[i].Kind == "view" {
						l[i].Needs = []string{"index i", "view v", `index "i"`, `view "v"`}
					}
				}
				return l
			})
		}, "need each other in a circle"},
		"section": {"none", func(b *barn) {
			b.objects(func(l []manifest.ObjectEntry) []manifest.ObjectEntry { l[0].Section = "99-else"; return l })
		}, "no known section"},
		"bomb": {"zstd", func(b *barn) { b.put("objects.json.zst", bomb()) }, "unpacks to more"},
		"zeros": {"none", func(b *barn) {
			f := "20-data/t/part-0001.sql"
			b.put(f, append(bytes.Replace(b.file(f), []byte("INSERT"), make([]byte, 6), 1),
				"\nINSERT INTO t VALUES\n(1);\n"...))
		}, ""},
		"zero statement": {"none", func(b *barn) {
			b.objects(func(l []manifest.ObjectEntry) []manifest.ObjectEntry { l[0].Length += 40; return l })
			b.put("10-schema.sql", append(b.file("10-schema.sql"), make([]byte, 4096)...))
		}, "zero byte"},
		"encoding":  {"none", func(b *barn) {}, "which no database has"},
		"pragma":    {"none", func(b *barn) {}, "which no database has"},
		"rows more": {"none", func(b *barn) {}, "the dump has 4"},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBarn(t, c.compression)
			c.harm(b)
			b.retell(func(m *manifest.Manifest) {
				switch name {
				case "encoding":
					m.Payload.SQL.Facts["encoding"] = "UTF-8'; ATTACH '" + b.dir +
						"/data/live.db' AS l; DELETE FROM l.u; --"
				case "pragma":
					m.Payload.SQL.Facts["journal_mode"] = "delete; VACUUM INTO '" + b.dir + "/stolen'"
				case "rows more":
					m.Payload.SQL.Tables[0].Rows = 4
				}
			})
			o := b.run(-1, "drill", "nightly/a.db")
			require.Contains(t, []int{1, 5}, o.code)
			require.LessOrEqual(t, peak(t, b.dir, o.code, "drill", "nightly/a.db"), int64(96<<20))
			require.Contains(t, o.stdout+o.stderr, c.say)
			o = b.run(1, "restore", "nightly/a.db", "--as", "new.db")
			require.Contains(t, o.stderr, c.say)
			entries, err := os.ReadDir(filepath.Join(b.dir, "data"))
			require.NoError(t, err)
			require.Len(t, entries, 2, "nothing is left")
			require.NoFileExists(t, filepath.Join(b.dir, "stolen"))
			require.Contains(t, contents(t, filepath.Join(b.dir, "data", "live.db")), contents(t,
				filepath.Join(b.dir, "data", "live.db"))[0])
		})
	}
}

// TestSQLInADumpStaysInItsFile: statements that would reach another file are refused, in
// objects, in rows and in the checks that a keep remembers.
func TestSQLInADumpStaysInItsFile(t *testing.T) {
	for _, sql := range []string{"ATTACH 'LIVE' AS l; DELETE FROM l.u;", "VACUUM INTO 'STOLEN';"} {
		b := newBarn(t, "none")
		live := filepath.Join(b.dir, "data", "live.db")
		before := contents(t, live)
		sql = strings.NewReplacer("LIVE", live, "STOLEN", filepath.Join(b.dir, "stolen")).Replace(sql)
		add := "COMMIT;\n" + sql + "\nBEGIN;\n"
		b.objects(func(l []manifest.ObjectEntry) []manifest.ObjectEntry {
			for i := range l {
				if l[i].Kind == "view" {
					l[i].Length += int64(len(add))
				}
			}
			return l
		})
		finish := b.file("50-finish.sql")
		b.put("50-finish.sql", bytes.Replace(finish, []byte("\nCOMMIT;"), []byte("\n"+add+"COMMIT;"), 1))
		b.retell(nil)
		o := b.run(5, "drill", "nightly/a.db")
		require.Contains(t, o.stdout, "could not be restored")
		b.run(1, "restore", "nightly/a.db", "--as", "new.db")
		require.Equal(t, before, contents(t, live))
		require.NoFileExists(t, filepath.Join(b.dir, "stolen"))
	}
}

// ofPlace takes an uncompressed dump of the roster of a place, to tamper with.
func ofPlace(t *testing.T, p *place) *barn {
	t.Helper()
	b := &barn{t: t, dir: t.TempDir()}
	b.keep = filepath.Join(b.dir, "barn")
	b.dump = lines(b.run(-1, "dump", "--from", p.url("roster"), "--to", "barn", "--compression", "none").stdout)[0]
	return b
}

// TestByHandLinesRunNoClientCommands: commands of the servers' own clients that stand in a
// dump are not run by the lines of its README.
func TestByHandLinesRunNoClientCommands(t *testing.T) {
	for _, p := range everyEngine(t) {
		t.Run(p.product, func(t *testing.T) {
			p.need(t)
			b := ofPlace(t, p)
			pwned := filepath.Join(b.dir, "pwned")
			command := map[string]string{"postgres": "\\! touch ", "mysql": "\\! touch ",
				"sqlite": ".shell touch "}[p.engine] + pwned + "\n"
			b.put("10-schema.sql", append([]byte(command), b.file("10-schema.sql")...))
			b.retell(nil)
			script := handScript(t, b.dump)
			env := []string{"HOME=" + b.dir}
			switch s := p.server.(type) {
			case *testserver.Postgres:
				env = append(env, "PGHOST="+s.Folder, fmt.Sprint("PGPORT=", s.Port), "PGUSER="+testserver.Admin)
			case *testserver.MySQL:
				script = strings.Replace(script, "client='mariadb ", "client='"+strings.Join(s.Client(), " ")+" ", 1)
			}
			p.drop("roster_restored")
			defer p.drop("roster_restored")
			cmd := exec.Command("sh", "-e", "-c", script)
			cmd.Dir, cmd.Env = b.dump, append(os.Environ(), env...)
			_, err := cmd.CombinedOutput()
			require.Error(t, err, "it stops there")
			require.NoFileExists(t, pwned)
		})
	}
}

// TestHeadsThatSayNothing: a file of rows that does not name its table, or not as SQL
// writes it, is an error; nothing panics, and no scratch database is left.
func TestHeadsThatSayNothing(t *testing.T) {
	for _, p := range everyEngine(t) {
		t.Run(p.product, func(t *testing.T) {
			p.need(t)
			b := ofPlace(t, p)
			var table manifest.Table
			b.retell(func(m *manifest.Manifest) { table = m.Tables()[0] })
			name := table.Files[0]
			whole := b.file(name)
			for _, head := range []string{"INSERT INTO x VALUES\n", "INSERT INTO `x VALUES\n", "INSERT INTO",
				"COPY x FROM stdin;\n", "COPY \"x FROM stdin;\n", ""} {
				b.put(name, []byte(head))
				b.retell(func(m *manifest.Manifest) {
					for i := range m.Files {
						if m.Files[i].Path == name {
							m.Files[i].Raw = int64(len(head))
						}
					}
				})
				b.run(5, append([]string{"drill", b.dump}, p.scratch()...)...)
			}
			b.put(name, whole)
			require.NotContains(t, p.databases(), "grainkeep_drill")
		})
	}
}

// TestAKeepNamesNoPlace: a job that stands in a keep chooses no server, no secret and no
// file; its checks are asked, and only in the scratch database.
func TestAKeepNamesNoPlace(t *testing.T) {
	b := newBarn(t, "zstd")
	require.NoError(t, os.Rename(filepath.Join(b.dir, "grainkeep.toml"), filepath.Join(b.dir, "kept.toml")))
	secret := filepath.Join(b.dir, "id_rsa")
	require.NoError(t, os.WriteFile(secret, []byte("private"), 0o600))
	plant := func(check string) {
		text := "[source.files]\nengine = \"postgres\"\nserver = \"127.0.0.1:1\"\nsecret = \"file:" + secret +
			"\"\n[keep.barn]\nfolder = \"x\"\n" +
			"[job.nightly]\nsource = \"files\"\nkeep = \"barn\"\ndrill_on = \"files\"\n[[job.nightly.check]]\nsql = " + check + "\nanswer = \"3\"\n"
		text += "# sha256 of the lines above: " + record.ID([]byte(text)) + "\n"
		require.NoError(t, os.WriteFile(filepath.Join(b.keep, "jobs", "nightly.toml"), []byte(text), 0o600))
	}
	plant(`"SELECT count(*) FROM t"`)
	o := b.run(0, "drill", "nightly/a.db", "--from", "barn")
	require.Contains(t, o.stderr, "check good: SELECT count(*) FROM t")
	plant(`"ATTACH '` + filepath.Join(b.dir, "data", "live.db") + `' AS l"`)
	require.Contains(t, b.run(5, "drill", "nightly/a.db", "--from", "barn").stdout, "too many attached databases")
	require.NoError(t, os.WriteFile(filepath.Join(b.keep, "jobs", "nightly.toml"), []byte("["), 0o600))
	o = b.run(1, "drill", "nightly/a.db", "--from", "barn")
	require.Contains(t, o.stderr, "the checks of the job nightly cannot be read, so nothing was drilled")
	require.Contains(t, b.run(3, "verify", "--from", "barn").stderr, "nightly.toml is damaged")
}

// TestNothingReachesTheTerminal: names and texts of others are shown without what a
// terminal could obey, or people take for something else.
func TestNothingReachesTheTerminal(t *testing.T) {
	b := newBarn(t, "none")
	const evil = "e\x1b]0;owned\x07\x1b[2J\u202egnp.\u009b1m\u2066"
	makeFile(t, filepath.Join(b.dir, "data", "a.db"),
		`CREATE TABLE "`+evil+`" (a); CREATE VIEW "v`+evil+`" AS SELECT 1 AS a`)
	path := lines(b.run(3, "dump", "nightly").stdout)[0]
	b.objects(func(l []manifest.ObjectEntry) []manifest.ObjectEntry { l[0].Kind += evil; return l })
	b.retell(func(m *manifest.Manifest) {
		m.Source.Where, m.Source.Product, m.Warnings = evil, "SQLite"+evil, []manifest.Warning{{Code: evil, Text: evil}}
		m.Payload.SQL.Objects["x"+evil] = 1
	})
	check := func(what, text string) {
		t.Helper()
		for _, c := range []string{"\x1b", "\x07", "\u202e", "\u009b", "\u2066"} {
			require.NotContains(t, text, c, what)
		}
	}
	old := filepath.Base(b.dump)
	for _, args := range append(reading, []string{"survey", "nightly"}, []string{"show", b.dump}, []string{"drill",
		b.dump}, []string{"list", "--json"},
		[]string{"show", b.dump, "--json"}, []string{"restore", path, "--as", "n" + evil}, []string{"list", evil},
		[]string{evil}, []string{"show", "--at", evil, "nightly"}) {
		o := b.run(-1, args...)
		check(strings.Join(args, " "), o.stdout+o.stderr)
	}
	require.NotEmpty(t, old)
	readme, err := os.ReadFile(filepath.Join(path, "README.txt"))
	require.NoError(t, err)
	check("README.txt", string(readme))
	shown := b.run(3, "survey", "nightly").stdout + b.run(0, "show", path).stdout
	require.Contains(t, shown, `e\x1b]0;owned\x07\x1b[2J\u202egnp.\u009b1m\u2066`, "it is shown, escaped")
}

// TestTheNewestIsNeverPassedOver: neither the damaged one of one keep, nor the one that
// another keep has.
func TestTheNewestIsNeverPassedOver(t *testing.T) {
	t.Parallel()
	b := newBarn(t, "zstd")
	time.Sleep(1100 * time.Millisecond) // moments are named in seconds
	newer := lines(b.run(3, "dump", "nightly/a.db").stdout)[0]
	at := filepath.Join(newer, manifest.Name)
	data, err := os.ReadFile(at)
	require.NoError(t, err)
	for how, harm := range map[string]func() error{
		"damaged": func() error { return os.WriteFile(at, []byte("{}"), 0o600) },
		"a pipe":  func() error { return exec.Command("mkfifo", at).Run() },
	} {
		require.NoError(t, os.Remove(at))
		require.NoError(t, harm())
		for _, args := range [][]string{{"restore", "nightly/a.db", "--as", "new.db"}, {"drill", "nightly/a.db"},
			{"verify", "nightly/a.db"}, {"show", "nightly/a.db"}, {"verify", "nightly"}} {
			o := b.run(5, args...)
			require.Contains(t, o.stderr, "is, or may be, the one that is meant", "%s, %q", how, args)
		}
		b.run(3, "list")
	}
	// An older one by its id, or by its moment, is not affected.
	older := result(t, b.dir, 3, "list")["result"].([]any)[0].(map[string]any)
	b.run(0, "restore", older["id"].(string), "--as", "old.db")
	b.run(0, "restore", "nightly/a.db", "--at", older["moment"].(string)[:19]+"Z", "--as", "old2.db")
	require.NoError(t, os.Remove(at))
	require.NoError(t, os.WriteFile(at, data, 0o600))

	// The job moves to another keep: the newest is there.
	config, err := os.ReadFile(filepath.Join(b.dir, "grainkeep.toml"))
	require.NoError(t, err)
	text := strings.Replace(string(config), "[keep.barn]", "[keep.attic]\nfolder = \"attic\"\n[keep.barn]", 1)
	text = strings.Replace(text, "keep = \"barn\"", "keep = \"attic\"", 1)
	require.NoError(t, os.WriteFile(filepath.Join(b.dir, "grainkeep.toml"), []byte(text), 0o600))
	b.run(0, "keep", "create", "attic")
	time.Sleep(1100 * time.Millisecond)
	makeFile(t, filepath.Join(b.dir, "data", "a.db"), "INSERT INTO t VALUES (4)")
	b.run(3, "dump", "nightly")
	b.run(0, "restore", "nightly/a.db", "--as", "newest.db")
	var n int
	require.NoError(t, openFile(t, filepath.Join(b.dir, "data",
		"newest.db")).QueryRow("SELECT count(*) FROM t").Scan(&n))
	require.Equal(t, 4, n)
}

// TestWhatVanishesIsMissed: a removed manifest, a renamed dump, a database that is gone,
// one that nobody took; and what was removed on purpose is not missed.
func TestWhatVanishesIsMissed(t *testing.T) {
	b := newBarn(t, "zstd")
	say := func(what string) {
		t.Helper()
		for _, args := range [][]string{{"list"}, {"verify"}} {
			require.Contains(t, b.run(3, args...).stderr, what, "%q", args)
		}
	}
	b.run(0, "verify")
	require.NoError(t, os.Rename(b.dump, b.dump+"-2"))
	say("is recorded under another path")
	require.NoError(t, os.Rename(b.dump+"-2", b.dump))
	require.NoError(t, os.Rename(filepath.Dir(b.dump), filepath.Dir(b.dump)+"x"))
	say("is recorded under another path")
	require.NoError(t, os.Rename(filepath.Dir(b.dump)+"x", filepath.Dir(b.dump)))
	require.NoError(t, os.CopyFS(b.dump+"-9", os.DirFS(b.dump)))
	require.NoError(t, os.RemoveAll(filepath.Join(b.keep, "runs")))
	say("is in no record of its keep")
	require.NoError(t, os.RemoveAll(b.dump+"-9"))

	b = newBarn(t, "zstd")
	id := result(t, b.dir, 0, "list", "nightly/a.db")["result"].([]any)[0].(map[string]any)["id"].(string)
	require.NoError(t, os.Remove(filepath.Join(b.dump, manifest.Name)))
	say("the dump " + id[:10] + " of nightly/a.db/")
	require.Equal(t, id+"\n", b.run(0, "remove", id[:10]).stdout)
	b.run(0, "list")
	live := result(t, b.dir, 0, "list", "nightly/live.db")["result"].([]any)[0].(map[string]any)
	b.run(0, "remove", live["id"].(string), "--why", "a test")
	require.NoDirExists(t, live["path"].(string))
	require.Contains(t, b.run(0, "list").stderr, "No dumps yet")
	require.Contains(t, b.run(2, "remove", "abcdef").stderr, "there is no dump")
}

// TestWorkThatVanishes: somebody removes the hidden folder of a run; nothing of it comes
// into place, and that is a failure.
func TestWorkThatVanishes(t *testing.T) {
	t.Parallel()
	b := newBarn(t, "zstd")
	makeFile(t, filepath.Join(b.dir, "data", "live.db"),
		"INSERT INTO u WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 1500000) SELECT "+
			"hex(i) FROM n")
	cmd, _, wait := command(b.dir, "dump", "nightly/live.db")
	require.NoError(t, cmd.Start())
	work := filepath.Join(b.keep, ".work")
	require.Eventually(t, func() bool {
		found, err := filepath.Glob(filepath.Join(work, "????????????", "live.db", "*"))
		return err == nil && len(found) > 0
	}, patience, tick)
	require.NoError(t, os.RemoveAll(work))
	o := wait()
	require.Equal(t, 1, o.code, o.stderr)
	require.Regexp(t, `did not stay as they were written|no such file or directory`, o.stderr)
	require.Len(t, result(t, b.dir, 0, "list", "nightly/live.db")["result"], 1, "only the old one")
}

// TestAnotherMachineAtWork: two machines share a keep, and do not see each other's locks.
func TestAnotherMachineAtWork(t *testing.T) {
	b := newBarn(t, "zstd")
	work := filepath.Join(b.keep, ".work")
	holder := `{"pid": 7, "host": "pilot", "boot": "another", "since": "2026-03-14T02:30:00Z"}`
	require.NoError(t, os.MkdirAll(filepath.Join(work, "abcdef123456", "a.db"), 0o700))
	leases := []string{filepath.Join(work, "abcdef123456.lease"), filepath.Join(work, "job-nightly.lease")}
	for _, l := range leases {
		require.NoError(t, os.WriteFile(l, []byte(holder), 0o600))
	}
	o := b.run(6, "dump", "nightly")
	require.Contains(t, o.stderr, "the job nightly is already running: process 7 on pilot holds it")
	require.Contains(t, o.stderr, "its lease expires 2m0s after its last sign of life")
	require.NoError(t, os.Remove(leases[1]))
	b.run(3, "dump", "nightly/a.db")
	require.DirExists(t, filepath.Join(work, "abcdef123456", "a.db"), "it is alive: nobody sweeps it")
	require.NoError(t, os.Chtimes(leases[0], time.Time{}, time.Now().Add(-3*time.Minute)))
	require.Contains(t, b.run(3, "dump", "nightly/a.db").stderr, "cleaned up after 1 run")
	require.NoDirExists(t, work)
}

// TestSignalsAndFullOutput: a second signal ends the program at once, and a result that
// could not be written is a failure.
func TestSignalsAndFullOutput(t *testing.T) {
	b := newBarn(t, "zstd")
	sh(t, b.dir,
		`"$PROGRAM" list >/dev/full 2>err && exit 9; [ $? = 1 ]; grep -q "could not be written to standard output" err`, "PROGRAM="+program)
	db := openFile(t, filepath.Join(b.dir, "data", "live.db"))
	_, err := db.Exec("BEGIN EXCLUSIVE")
	require.NoError(t, err)
	sh(t, b.dir, `sed -i '/^\[job/a lock_wait = "1 hour"' grainkeep.toml`)
	for signals := range 2 { // asked once, and once more at the same time
		cmd, _, wait := command(b.dir, "dump", "nightly/live.db")
		require.NoError(t, cmd.Start())
		require.Eventually(t, func() bool {
			_, err := os.Stat(filepath.Join(b.keep, ".work", "job-nightly.lease"))
			return err == nil
		}, patience, tick)
		time.Sleep(100 * time.Millisecond) // it has to wait for the lock
		require.NoError(t, cmd.Process.Signal(os.Interrupt))
		for range signals {
			_ = cmd.Process.Signal(os.Interrupt) // it may be gone already
		}
		hangs := time.AfterFunc(3*patience, func() { _ = cmd.Process.Kill() })
		o := wait()
		hangs.Stop()
		require.Equal(t, 1, o.code, o.stderr)
		if signals == 0 {
			require.Contains(t, o.stderr, "stopped by SIGINT; what was unfinished is removed", "also from the wait for a lock")
		}
	}
	_, err = db.Exec("COMMIT")
	require.NoError(t, err)
	b.run(3, "dump", "nightly") // nothing is in the way of the next
}

// TestConfigurationsOfOthers: what somebody else could have put there is not used.
func TestConfigurationsOfOthers(t *testing.T) {
	b := newBarn(t, "zstd")
	config := filepath.Join(b.dir, "grainkeep.toml")
	require.NoError(t, os.Chmod(config, 0o666))
	require.Contains(t, b.run(2, "list").stderr, "other users can write to it")
	b.run(0, "list", "--config", config)
	require.NoError(t, os.Chmod(config, 0o600))
	require.NoError(t, os.Rename(config, config+".real"))
	require.NoError(t, os.Symlink(config+".real", config))
	require.Contains(t, b.run(2, "list").stderr, "it is a link")
	if os.Getuid() == 0 {
		require.NoError(t, os.Remove(config))
		require.NoError(t, os.Rename(config+".real", config))
		require.NoError(t, os.Chown(config, 4711, 4711))
		require.Contains(t, b.run(2, "list").stderr, "belongs to another user")
	}
}
