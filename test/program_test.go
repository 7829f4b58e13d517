package test

import (
	"debug/elf"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestProgramIsStatic(t *testing.T) {
	f, err := elf.Open(program)
	require.NoError(t, err)
	defer f.Close()
	for _, p := range f.Progs {
		require.NotEqual(t, elf.PT_INTERP, p.Type, "it needs a loader")
	}
	libs, err := f.ImportedLibraries()
	require.NoError(t, err)
	require.Empty(t, libs)
}

func TestDemoGoesThroughTheWholeWork(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	o := run(t, dir, 0, "demo", "ferries")
	for _, say := range []string{"$ grainkeep survey nightly", "$ grainkeep dump nightly",
		"proven  nightly/bookings.db", "bookings_yesterday.db",
		"02:30  the full dump of nightly begins", "proven   in 18 h 30 m  good",
		"its newest run failed: there is no folder",
		"20-data/posting/part-0001.sql.zst is damaged", "(exit code 5)", "That is the work"} {
		require.Contains(t, o.stdout, say)
	}
	require.NotContains(t, o.stdout, "panic")
	demo := filepath.Join(dir, "ferries")
	// What it says to try next works.
	try := regexp.MustCompile(`grainkeep (restore .* --at (\S+) --as (\S+) --only booking)\n`).
		FindStringSubmatch(o.stdout)
	require.NotNil(t, try)
	run(t, demo, 0, "restore", "nightly/bookings.db", "--at", try[2], "--as", try[3], "--only", "booking")
	require.Contains(t, run(t, dir, 1, "demo", "ferries").stderr, "is not empty")
	_, err := os.Stat(filepath.Join(demo, "barn", ".work"))
	require.ErrorIs(t, err, os.ErrNotExist)
}

func TestHelpIsInTheOrderOfTheWork(t *testing.T) {
	o := run(t, t.TempDir(), 0, "help")
	require.Regexp(t,
		regexp.MustCompile(`(?s)\nOnce\n.*demo.*init.*keep.*survey.*grants.*`+
			`\nEvery day\n.*dump.*list.*show.*verify.*restore.*drill.*\nBesides\n.*version`), o.stdout)
	require.Regexp(t, `^grainkeep \d+\.\d+\.\d+ \((commit [0-9a-f]{12}|built without its commit), go1`, run(t,
		t.TempDir(), 0, "version").stdout)
	require.Contains(t, run(t, t.TempDir(), 0, "completion", "bash").stdout, "__start_grainkeep")
}

// TestEveryCommandExplainsItself: a description and two examples, in lines that fit a terminal.
func TestEveryCommandExplainsItself(t *testing.T) {
	dir := t.TempDir()
	names := regexp.MustCompile(`(?m)^  ([a-z]+) {2,}[A-Z]`).FindAllStringSubmatch(run(t, dir, 0, "help").stdout, -1)
	require.Greater(t, len(names), 15)
	commands := [][]string{{"keep", "create"}, {"schedule", "export"}, {"schedule", "serve"}, {"schedule", "token"},
		{"help"}}
	for _, n := range names {
		commands = append(commands, []string{n[1]})
	}
	for _, c := range commands {
		text := run(t, dir, 0, append([]string{"help"}, c...)...).stdout
		_, rest, found := strings.Cut(text, "\nExamples\n")
		require.True(t, found, "%v has no examples", c)
		require.Equal(t, 2, strings.Count("\n"+rest, "\n  grainkeep "), "%v: %s", c, text)
		for l := range strings.Lines(text) {
			require.LessOrEqual(t, len([]rune(l)), 110, l)
		}
	}
}
