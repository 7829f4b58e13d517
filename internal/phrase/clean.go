package phrase

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"

	"grainkeep/internal/pattern"
)

// Clean makes a text of others safe to show on one line: control characters, those that
// turn the direction of writing or cannot be seen, and bytes that are no characters are
// escaped, as \n, \x1b or \u202e. Everything else stays as it is.
func Clean(s string) string {
	if !strings.ContainsFunc(s, unsafeRune) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case !unsafeRune(r):
			b.WriteString(s[i : i+n])
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == '\r':
			b.WriteString(`\r`)
		case r < 0x80:
			fmt.Fprintf(&b, `\x%02x`, r)
		case r > 0xffff:
			fmt.Fprintf(&b, `\U%08x`, r)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
		i += n
	}
	return b.String()
}

// Shorten cuts a text to so many bytes, and says how much is missing.
func Shorten(s string, most int) string {
	if len(s) <= most {
		return s
	}
	cut := most
	for cut > 0 && !utf8.RuneStart(s[cut]) {
		cut--
	}
	return fmt.Sprintf("%s… (%d more bytes)", s[:cut], len(s)-cut)
}

// CleanLines is Clean for a text of several lines: line feeds stay.
func CleanLines(s string) string {
	if !strings.ContainsFunc(s, unsafeRune) {
		return s
	}
	lines := strings.Split(s, "\n")
	for i, l := range lines {
		lines[i] = Clean(l)
	}
	return strings.Join(lines, "\n")
}

// CleanJSON escapes the same characters in JSON text, as that writes them.
func CleanJSON(s string) string {
	var b strings.Builder
	for _, r := range s {
		switch {
		case r == '\n' || r == utf8.RuneError || !unsafeRune(r):
			b.WriteRune(r)
		case r > 0xffff:
			high, low := utf16.EncodeRune(r)
			fmt.Fprintf(&b, `\u%04x\u%04x`, high, low)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
	}
	return b.String()
}

// unsafeRune says what a terminal could take for an instruction, or people for something
// else than it is: controls, line separators, marks of direction, invisible format
// characters and tags.
func unsafeRune(r rune) bool {
	return r == utf8.RuneError || unicode.In(r, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp)
}

var secretValue = pattern.Of(`(?i)([?&;][^=&;]*(?:pass|pwd|secret|token|key)[^=&;]*=)[^&;]*`)

// Redact takes out of a text that may be a URL what may be a password in it.
func Redact(s string) string {
	s = secretValue().ReplaceAllString(s, "${1}…")
	at := strings.LastIndexByte(s, '@')
	colon := strings.IndexByte(s, ':')
	if at < 0 || colon < 0 || colon > at {
		return s
	}
	head := s[:colon+1]
	if strings.HasPrefix(s[colon:], "://") {
		head = s[:colon+3]
	}
	return head + "…" + s[at:]
}
