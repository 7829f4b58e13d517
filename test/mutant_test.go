package test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// change is a defect, put into a source file.
type change struct{ file, old, new string }

// mutants are programs that do something wrong, and the same wrong when they read back.
var mutants = map[string][]change{
	"a column that is overlooked": {
		{"internal/engine/postgres/tables.go", `if c.Generated == "" {`,
			`if c.Generated == "" && c.Name != "vehicle" {`},
		{"internal/engine/mysql/reader.go", "if c.generated {", `if c.generated || c.name == "vehicle" {`},
		{"internal/engine/sqlite/catalog.go", "if s.int(2) == 0 {", `if s.int(2) == 0 && s.text(0) != "vehicle" {`},
	},
	"a value that is changed": {
		{"internal/rows/scan.go", "	m.beats.Add(1)\n",
			"	m.beats.Add(1)\n	p = bytes.ReplaceAll(p, []byte(\"car\"), []byte(\"caR\"))\n"},
		{"internal/rows/scan.go", "import (\n", "import (\n	\"bytes\"\n"},
	},
	"a definition that lacks something": {
		{"internal/engine/postgres/columns.go", "	case !n.Set || n.Unvalidated:", "	case true:"},
		{"internal/engine/mysql/tables.go", "			for _, f := range []string{\"nextval(\"",
			"			item = strings.Replace(item, \" NOT NULL\", \"\", 1)\n			for _, f := range []string{\"nextval(\""},
		{"internal/engine/sqlite/catalog.go", "	if openComment(sql) {",
			"	sql = strings.Replace(sql, \" NOT NULL\", \"\", 1)\n	if openComment(sql) {"},
	},
}

// mutant builds a program with defects.
func mutant(t *testing.T, changes []change) string {
	t.Helper()
	dir := t.TempDir()
	root, err := filepath.Abs("..")
	require.NoError(t, err)
	replace := map[string]string{}
	for i, c := range changes {
		path := filepath.Join(root, c.file)
		from := path
		if done := replace[path]; done != "" {
			from = done
		}
		text, err := os.ReadFile(from)
		require.NoError(t, err)
		require.Equal(t, 1, strings.Count(string(text), c.old), "%s: %s", c.file, c.old)
		replace[path] = filepath.Join(dir, strings.ReplaceAll(c.file, "/", "_")+string(rune('0'+i)))
		require.NoError(t, os.WriteFile(replace[path], []byte(strings.Replace(string(text), c.old, c.new, 1)), 0o600))
	}
	overlay, err := json.Marshal(map[string]any{"Replace": replace})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "overlay.json"), overlay, 0o600))
	built := filepath.Join(dir, "grainkeep")
	cmd := exec.Command("go", "build", "-overlay", filepath.Join(dir, "overlay.json"), "-o", built, "../cmd/grainkeep")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	return built
}

// TestASecondPairOfEyes: a drill that reads back with the code that wrote cannot see what both
// are blind to. What the server itself says does.
func TestASecondPairOfEyes(t *testing.T) {
	t.Parallel()
	if absent != nil && noMaria != nil && noMySQL != nil { // what needs no server takes less than a minute
		t.Skip("no server is here: programs are not built for SQLite alone")
	}
	for name, changes := range mutants {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			built := mutant(t, changes)
			for _, p := range everyEngine(t) {
				t.Run(p.product, func(t *testing.T) {
					p.need(t)
					dir := t.TempDir()
					mutated := func(args ...string) (string, int) {
						cmd := exec.Command(built, args...)
						cmd.Dir, cmd.Env = dir, []string{"PATH=" + os.Getenv("PATH"), "HOME=" + dir, "TZ=UTC"}
						out, _ := cmd.Output() // its exit code is looked at
						return string(out), cmd.ProcessState.ExitCode()
					}
					_, code := mutated("dump", "--from", p.url("bookings"), "--to", "keep")
					require.Contains(t, []int{0, 3}, code)
					out, code := mutated(append([]string{"drill", "adhoc", "--from", "keep"}, p.scratch()...)...)
					require.Equal(t, 5, code, out)
					require.Regexp(t, "to the server, and was|the server.s own digest|and the server listed", out)
				})
			}
		})
	}
}
