package manifest

import (
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/fault"
	"grainkeep/internal/record"
)

func sample() *Manifest {
	sum := strings.Repeat("ab", 32)
	moment := time.Date(2026, 3, 14, 2, 30, 0, 123456000, time.UTC)
	return &Manifest{Format: Version, Keep: "00ff00ff", Job: "nightly", Database: "a/b \"c\"\n<é>", Kind: Full,
		Moment:  moment,
		Started: moment, Finished: moment, Run: Run{ID: "00ff", Started: moment}, RawBytes: 4, StoredBytes: 3,
		Payload: Payload{Type: TypeSQL, SQL: &SQL{Catalog: sum, Objects: map[string]int{"table": 2}, Tables: []Table{
			{ID: "t", Name: "t", Columns: []string{"a"}, Rows: 3, Sum: sum[:32],
				Files: []string{"20-data/t/part-0001.sql"}},
			{ID: "u", Rows: 4, Sum: sum[:32]}}}},
		Files: []File{{Path: "x", Bytes: 1, Raw: 2, SHA256: sum}, {Path: "20-data/t/part-0001.sql", Bytes: 2, Raw: 2,
			SHA256: sum}}}
}

func TestEncodeAndDecode(t *testing.T) {
	m := sample()
	data, id, err := m.Encode()
	require.NoError(t, err)
	got, gotID, err := Decode(data)
	require.NoError(t, err)
	require.Equal(t, m, got)
	require.Equal(t, id, gotID)
	require.EqualValues(t, 7, got.Rows())
	require.Equal(t, id+"  manifest.json\n"+m.Files[0].SHA256+"  x\n"+m.Files[1].SHA256+"  20-data/t/part-0001.sql\n",
		got.SumLines(id))

	// The check is what docs/format.md says a shell can do.
	path := filepath.Join(t.TempDir(), Name)
	require.NoError(t, os.WriteFile(path, data, 0o600))
	out, err := exec.Command("sh", "-c", "head -n -2 "+path+" | sha256sum; sha256sum "+path).Output()
	require.NoError(t, err)
	sums := strings.Fields(string(out))
	require.Contains(t, string(data), `"sha256_of_the_lines_above": "`+sums[0]+`"`)
	require.Equal(t, id, sums[2])

	for i := range data { // no byte may change
		bad := append([]byte{}, data...)
		bad[i] ^= 1
		_, _, err := Decode(bad)
		require.True(t, fault.HasCode(err, "manifest-damaged"), "byte %d, %q: %v", i, data[i], err)
	}
	_, _, err = Decode(data[:len(data)-1])
	require.Error(t, err)
	m.Format = Version + 1
	data, _, err = m.Encode()
	require.NoError(t, err)
	_, _, err = Decode(data)
	require.True(t, fault.HasCode(err, "format-too-new"))
	require.Contains(t, fault.Of(err).Do, "restore it by hand")
}

// TestWhatIsNotPossibleIsDamage: a manifest that was changed on purpose has a good check.
func TestWhatIsNotPossibleIsDamage(t *testing.T) {
	for say, spoil := range map[string]func(*Manifest){
		"leads elsewhere":               func(m *Manifest) { m.Files[0].Path = "../../etc/passwd" },
		"empty part":                    func(m *Manifest) { m.Files[0].Path = "/etc/passwd" },
		"character that no keep writes": func(m *Manifest) { m.Files[0].Path = "a b" },
		"is hidden":                     func(m *Manifest) { m.Files[0].Path = ".work" },
		"itself":                        func(m *Manifest) { m.Files[0].Path = "MANIFEST.json" },
		"twice":                         func(m *Manifest) { m.Files[0].Path = "20-data/T/part-0001.sql" },
		"a file and a folder":           func(m *Manifest) { m.Files[0].Path = "20-data/t" },
		"the size of \"x\"":             func(m *Manifest) { m.Files[0].Bytes = -1 },
		"the size of \"20-data": func(m *Manifest) {
			m.Files[0].Raw, m.Files[1].Raw = math.MaxInt64,
				math.MaxInt64
		},
		"the digest of \"x\"":            func(m *Manifest) { m.Files[0].SHA256 = "ab" },
		"not the sum":                    func(m *Manifest) { m.StoredBytes = math.MinInt64 },
		"the counts of the table":        func(m *Manifest) { m.Payload.SQL.Tables[0].Rows = -3 },
		"without a name of its own":      func(m *Manifest) { m.Payload.SQL.Tables[1].ID = "t" },
		"the fingerprint of the table":   func(m *Manifest) { m.Payload.SQL.Tables[0].Sum = "" },
		"a file that is not its own":     func(m *Manifest) { m.Payload.SQL.Tables[0].Files[0] = "y" },
		"its counts of objects":          func(m *Manifest) { m.Payload.SQL.Objects["table"] = -1 },
		"its job is":                     func(m *Manifest) { m.Job = "../x" },
		"the run's id":                   func(m *Manifest) { m.Run.ID = "../x" },
		"the keep's id":                  func(m *Manifest) { m.Keep = "'; DROP" },
		"has no name":                    func(m *Manifest) { m.Database = "" },
		"its kind":                       func(m *Manifest) { m.Kind = "fuller" },
		"a full dump has a base":         func(m *Manifest) { m.Base = m.Files[0].SHA256 },
		"the id of its base":             func(m *Manifest) { m.Kind, m.Base = Incremental, "x" },
		"not of the calendar":            func(m *Manifest) { m.Moment = time.Date(-5, 1, 1, 0, 0, 0, 0, time.UTC) },
		"payload is of the unknown type": func(m *Manifest) { m.Payload.Type = "tarot" },
		"payload is missing":             func(m *Manifest) { m.Payload.SQL = nil },
		"its format is 0":                func(m *Manifest) { m.Format = 0 },
	} {
		m := sample()
		spoil(m)
		_, _, err := m.Encode()
		require.Error(t, err, "%s: it is not written", say)
		data, _, err := record.Encode(m)
		if err != nil {
			continue // the calendar: JSON does not take it
		}
		_, _, err = Decode(data)
		require.True(t, fault.HasCode(err, "manifest-damaged"), say)
		require.ErrorContains(t, err, say)
	}
}

func FuzzDecode(f *testing.F) {
	data, _, err := sample().Encode()
	require.NoError(f, err)
	f.Add(data)
	f.Fuzz(func(t *testing.T, data []byte) {
		m, _, err := Decode(data)
		if err != nil {
			// What stands behind the check is reached with a check of its own.
			m = &Manifest{}
			if record.Unmarshal(data, m) != nil || m.Check() != nil {
				return
			}
		}
		require.GreaterOrEqual(t, m.Rows(), int64(0))
		require.NotEmpty(t, m.SumLines("id"))
	})
}
