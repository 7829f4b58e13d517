package engine

import "strings"

// ShellQuote writes a text as one word of a POSIX shell.
func ShellQuote(s string) string {
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}
