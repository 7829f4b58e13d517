package keep

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/record"
)

// FuzzSmallFiles reads what a keep says about itself: marker, proofs, jobs, records of
// runs. What stands behind their checks is reached with a check of its own.
func FuzzSmallFiles(f *testing.F) {
	for _, v := range []any{marker{Format: 1, ID: "00ff00ff"}, Proof{Dump: "ab", Proven: true,
		Checks: []Answer{{SQL: "x"}}},
		RunRecord{Run: "ab", Dumps: []Placed{{ID: "cd", Path: "nightly/x/y"}}}} {
		data, _, err := record.Encode(v)
		require.NoError(f, err)
		f.Add(data)
	}
	f.Add([]byte("x = 1\n" + jobCheck + "ab\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		var v map[string]any
		if json.Unmarshal(data, &v) == nil && len(v) > 0 {
			delete(v, "sha256_of_the_lines_above")
			if again, _, err := record.Encode(v); err == nil {
				data = again
			}
		}
		if m, err := parseMarker(data); err == nil {
			require.True(t, hexID(m.ID))
		}
		if p, err := parseProof(data, "ab"); err == nil {
			require.Equal(t, "ab", p.Dump)
		}
		var r RunRecord
		if record.Decode(data, &r) == nil {
			for _, p := range r.Dumps {
				within(map[string]bool{"nightly": true}, p.Path)
			}
		}
		jobIntact(data)
	})
}

func FuzzNames(f *testing.F) {
	f.Add("a/b c", "season.2026")
	f.Fuzz(func(t *testing.T, a, b string) {
		for _, name := range []string{EscapeName(a), DatabaseFolder(a), TableFolder(a, b)} {
			require.LessOrEqual(t, len(name), 255)
			if name != "+server" {
				require.Regexp(t, `^[a-z0-9_.%~-]+$`, name)
				require.NotEqual(t, byte('.'), name[0])
			}
		}
	})
}
