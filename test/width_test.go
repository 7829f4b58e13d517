package test

import (
	"fmt"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

// coloured are the sequences by which a terminal colours words, and those that take a line of progress away.
var coloured = regexp.MustCompile(`\x1b\[[0-9;]*[mK]`)

// TestWhatIsPrintedFits: every command of the demo, in terminals of three widths. A line is longer than the terminal
// only where it is one word, such as a path, or SQL and shell lines that are to be copied.
func TestWhatIsPrintedFits(t *testing.T) {
	t.Parallel()
	top := t.TempDir()
	run(t, top, 0, "demo", "ternskerry")
	dir := filepath.Join(top, "ternskerry")
	commands := []string{"help", "survey nightly", "list", "list --all", "list nightly/bookings.db", "show nightly/bookings.db",
		"show nightly/bookings.db --moments", "verify nightly", "drill nightly", "restore nightly/bookings.db --dry-run",
		"schedule", "status", "history", "thin nightly", "forecast nightly", "report", "dump nightly",
		"compare nightly/cargo.db --with files --rows", "ask nightly/bookings.db 'SELECT * FROM passenger LIMIT 5'",
		"verify nightly --from barn-damaged", "drill nightly/bookings.db --from barn-damaged", "list nothing"}
	for _, name := range strings.Fields("demo init keep survey grants key dump list show find ask compare verify restore drill copy " +
		"reseal slots refresh standby hold release remove schedule status history thin forecast report tell version completion") {
		commands = append(commands, "help "+name)
	}
	for _, width := range []int{60, 80, 120} {
		for _, c := range commands {
			if strings.HasPrefix(c, "help") && width == 60 {
				continue // help is written for 80
			}
			args := regexp.MustCompile(`'[^']*'|\S+`).FindAllString(c, -1)
			for i := range args {
				args[i] = strings.Trim(args[i], "'")
			}
			_, end := terminalOfWidth(t, uint16(width), dir, args...)
			out, _ := end()
			require.NotEmpty(t, out, c)
			for line := range strings.SplitSeq(out, "\n") {
				line = coloured.ReplaceAllString(line, "")
				line = strings.TrimRight(line[strings.LastIndexByte(strings.TrimRight(line, "\r"), '\r')+1:], "\r")
				if utf8.RuneCountInString(line) <= width || !strings.Contains(strings.TrimSpace(line), " ") ||
					strings.HasPrefix(line, "  grainkeep ") {
					continue
				}
				require.Fail(t, fmt.Sprintf("%q in %d columns is too wide", c, width), line)
			}
		}
	}
	for args, kind := range map[string]bool{"list": false, "list --wide": true} {
		_, end := terminalOfWidth(t, 80, dir, strings.Fields(args)...)
		out, _ := end()
		require.Equal(t, kind, strings.Contains(out, "Kind"), args)
	}
}
