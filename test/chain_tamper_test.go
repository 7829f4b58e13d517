package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/manifest"
)

// TestTamperedChains: an increment whose files somebody has changed, digests and all, does not restore to something
// else: a removal that does not fit stops it, and what fits is found out by the drill.
func TestTamperedChains(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name   string
		file   string // of the increment; a text in it is replaced
		is, be string
		change func(m *manifest.Manifest)
		say    string // empty: only the drill finds it
	}{
		{"a removal of other rows", "40-changes/t/gone.sql", "a<=", "a<=-", nil, "rows were to go, and there are 0"},
		{"a removal that says less", "40-changes/t/gone.sql", "-- rows: ", "-- rows: 1", nil, "rows were to go, and"},
		{"other counts", "", "", "", func(m *manifest.Manifest) { table(m).Counts.Removed++ }, "were to go"},
		{"fewer rows", "", "", "", func(m *manifest.Manifest) { table(m).Counts.Written++ }, "the target took"},
		{"another value", "40-changes/t/part-0001.sql", "'changed'", "'forged!'", nil, ""},
		{"no structure", "", "", "", func(m *manifest.Manifest) { m.Payload.SQL.Catalog = strings.Repeat("0", 64) },
			"no dump of its chain has its objects"},
		{"another shape", "", "", "", func(m *manifest.Manifest) { table(m).Shape = strings.Repeat("0", 32) },
			"where it was made otherwise"},
		{"a table of nowhere", "", "", "", func(m *manifest.Manifest) { table(m).ID = "nowhere" }, "has no such table"},
		{"a change of no kind", "", "", "", func(m *manifest.Manifest) { table(m).Change = "magic" },
			"changes of an unknown kind"},
		{"rows of a full", "", "", "", func(m *manifest.Manifest) { table(m).Change = manifest.Unchanged },
			"did not change, and has files"},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := newBarn(t, "none")
			makeFile(t, filepath.Join(b.dir, "data", "a.db"), "DROP VIEW v; DROP TABLE t; CREATE TABLE t (a INTEGER PRIMARY "+
				"KEY, b); INSERT INTO t WITH RECURSIVE c(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM c WHERE i < 9000) "+
				"SELECT i, 'row ' || i FROM c")
			b.run(3, "dump", "nightly/a.db")
			makeFile(t, filepath.Join(b.dir, "data", "a.db"), "UPDATE t SET b = 'changed' WHERE a = 20")
			b.dump = lines(b.run(3, "dump", "nightly/a.db", "--kind", "incremental").stdout)[0]
			require.Contains(t, b.dump, "-incremental")
			if c.file != "" {
				path := filepath.Join(b.dump, c.file)
				text, err := os.ReadFile(path)
				require.NoError(t, err)
				require.Contains(t, string(text), c.is)
				require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(text), c.is, c.be, 1)), 0o600))
			}
			b.retell(c.change)
			drilled := b.run(5, "drill", b.dump)
			if c.say == "" {
				require.Contains(t, drilled.stdout, "the table t has other values")
				return
			}
			require.Contains(t, drilled.stdout+drilled.stderr, c.say)
			o := b.run(-1, "restore", b.dump, "--as", "back.db")
			require.Contains(t, []int{1, 5}, o.code, o.stderr)
			require.Contains(t, o.stderr, c.say)
			require.NoFileExists(t, filepath.Join(b.dir, "data", "back.db"))
		})
	}
}

// table is the changed table of an increment.
func table(m *manifest.Manifest) *manifest.Table { return &m.Payload.SQL.Tables[0] }
