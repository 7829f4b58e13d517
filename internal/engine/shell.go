package engine

import (
	"strings"
	"unicode"
)

// ShellQuote writes a text as one word of a POSIX shell.
func ShellQuote(s string) string {
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// OnOneLine replaces what a terminal could take for an instruction, or people for
// something else than it is, so that a name fits a line of a README.
func OnOneLine(name string) string {
	return strings.Map(func(r rune) rune {
		if r == unicode.ReplacementChar || unicode.In(r, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp) {
			return '_'
		}
		return r
	}, name)
}
