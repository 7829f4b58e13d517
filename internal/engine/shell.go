package engine

import (
	"strings"
	"unicode"
)

// ShellQuote writes a text as one word of a POSIX shell.
func ShellQuote(s string) string {
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// OnOneLine replaces control characters, so that a name fits a line of a README.
func OnOneLine(name string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return '_'
		}
		return r
	}, name)
}
