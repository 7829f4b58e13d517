package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// The golden sealed keep was written once, by the first version that seals: for keys of age, of OpenSSH and post-quantum
// ones, which lie beside it and are used for nothing else; signed, drilled, and sealed anew for another key.
// GRAINKEEP_GOLDEN=seals makes it, where there is none yet.
const goldenSeals = "testdata/golden/format-1-seals"

func writeGoldenSeals(t *testing.T) {
	require.NoDirExists(t, goldenSeals, "a golden keep never changes")
	to, err := filepath.Abs(goldenSeals)
	require.NoError(t, err)
	require.NoError(t, os.Mkdir(to, 0o755))
	public := map[string]string{}
	for _, key := range []string{"office", "safe", "new"} {
		public[key] = lines(run(t, to, 0, "key", key+".key").stdout)[0]
	}
	public["quantum"] = lines(run(t, to, 0, "key", "quantum.key", "--quantum").stdout)[0]
	public["ssh"] = strings.TrimSpace(lines(run(t, to, 0, "key", "ssh.key", "--sign").stdout)[0])
	run(t, to, 0, "key", "sign.key", "--sign")
	source := "/srv/ternskerry" // its path stands in the manifest
	require.NoError(t, os.MkdirAll(source, 0o755))
	defer os.RemoveAll(source)
	sh(t, source, "sqlite3 golden.db '"+strings.ReplaceAll(goldenSQL["sqlite"]+"; "+goldenLog, "'", "'\\''")+"'")
	configure := func(safe string) {
		require.NoError(t, os.WriteFile(filepath.Join(to, "grainkeep.toml"), fmt.Appendf(nil, "[journal]\nfolder = %q\n"+
			"[source.quay]\nengine = \"sqlite\"\npath = %q\n[keep.barn]\nfolder = \"keep\"\nsign = \"sign.key\"\nseal = [%q, %q, %q]\n"+
			"[job.nightly]\nsource = \"quay\"\nkeep = \"barn\"\nfull = \"02:30\"\nincremental = \"each 15 min\"\n[job.quantum]\n"+
			"source = \"quay\"\nkeep = \"barn\"\nseal = [%q]\none_recipient = true\n", t.TempDir(), source, public["office"]+" office",
			public["ssh"], safe, public["quantum"]+" later"), 0o600))
	}
	configure(public["safe"] + " safe")
	run(t, to, -1, "keep", "create", "barn")
	run(t, to, -1, "dump", "quantum")
	run(t, to, -1, "dump", "nightly", "--kind", "full", "--new-baseline")
	for _, day := range goldenDays {
		time.Sleep(time.Second)
		sh(t, source, "sqlite3 golden.db \""+day+"\"")
		run(t, to, -1, "dump", "nightly", "--kind", "incremental")
	}
	run(t, to, 0, "drill", "nightly", "--key", "ssh.key")
	configure(public["new"] + " new")
	run(t, to, 0, "reseal", "nightly", "--from", "barn", "--key", "safe.key")
	require.NoError(t, os.Remove(filepath.Join(to, "grainkeep.toml")))
}

// TestGoldenSeals: a sealed keep once written is readable for ever, by whoever has a key.
func TestGoldenSeals(t *testing.T) {
	if os.Getenv("GRAINKEEP_GOLDEN") == "seals" {
		writeGoldenSeals(t)
	}
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS(goldenSeals)))
	sh(t, dir, "chmod 600 *.key; mkdir out")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "grainkeep.toml"), []byte("[keep.barn]\nfolder = \"keep\"\n"+
		"signed_by = [\"file:sign.key.pub\"]\n"), 0o600))
	require.Len(t, result(t, dir, 0, "list", "--all", "--from", "barn")["result"].([]any), 4, "of copies one")
	run(t, dir, 0, "verify")
	for key, names := range map[string][]string{"office": {"nightly"}, "ssh": {"nightly"}, "new": {"nightly"},
		"quantum": {"quantum"}} {
		for _, name := range names {
			run(t, dir, 0, "drill", name+"/golden.db", "--to", "out", "--key", key+".key")
		}
	}
	run(t, dir, 1, "restore", "quantum/golden.db", "--to", dir, "--key", "office.key")
	require.NoError(t, os.Remove(filepath.Join(dir, "grainkeep.toml")))
	run(t, dir, 0, "restore", "nightly/golden.db", "--from", "keep", "--to", dir, "--as", "back.db", "--key", "new.key")
	require.Equal(t, goldenEnd+"\n", sh(t, dir, "sqlite3 back.db '"+strings.ReplaceAll(goldenAsks, "'", "'\\''")+"'"))
	require.Contains(t, run(t, dir, 0, "show", "nightly/golden.db", "--from", "keep", "--key", "office.key").stdout, "vessel")
}
