package sqlite

import (
	"fmt"

	"grainkeep/internal/engine"
)

// ByHand gives the shell lines that restore a dump with the library's own shell.
func (driver) ByHand(d engine.HandDump) []string {
	lines := []string{
		"# -safe keeps the shell from running commands that may stand in a file; before version 3.37 it has no " +
			"such switch",
		"# where the new file shall be; it must not exist yet",
		"new=" + engine.ShellQuote(engine.OnOneLine("restored-"+d.Database)),
		"case $new in /*) ;; *) new=$HOME/$new ;; esac",
		"test ! -e \"$new\"",
		fmt.Sprintf("(for f in $(%s); do %s \"$f\" | sqlite3 "+
			"-safe -bail \"$new\" || exit 1; done)", d.Files, d.Unpack),
	}
	if d.Facts["journal_mode"] == "wal" {
		lines = append(lines, "sqlite3 \"$new\" 'PRAGMA journal_mode=wal'")
	}
	return append(lines, "sqlite3 -safe \"$new\" < row-counts.sql | diff - row-counts.txt && echo 'every row is there'")
}
