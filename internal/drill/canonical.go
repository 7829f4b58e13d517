package drill

import (
	"regexp"
	"strings"
)

// A server may write an expression differently once it has read it: parentheses
// come and go, and casts move (varchar CHECK (s IN ('a','b')) is the classic).
// The canonical form is the text without parentheses and casts; every name,
// operator and value stays, in its order. It is used only where the texts differ.
var (
	cast       = regexp.MustCompile(`::(?:"[^"]*"|[a-z_][a-z0-9_.]*)(?: varying| precision| without time zone| with time zone)?(?:\([0-9, ]+\))?(?:\[\])*`)
	spaceRun   = regexp.MustCompile(`\s+`)
	quotedText = regexp.MustCompile(`'(?:[^']|'')*'|"(?:[^"]|"")*"`)
)

func canonical(sql string) string {
	var b strings.Builder
	at := 0
	for _, q := range quotedText.FindAllStringIndex(sql, -1) {
		b.WriteString(strip(sql[at:q[0]]))
		b.WriteString(sql[q[0]:q[1]])
		at = q[1]
	}
	b.WriteString(strip(sql[at:]))
	return strings.TrimSpace(b.String())
}

func strip(s string) string {
	s = cast.ReplaceAllString(s, "")
	s = strings.NewReplacer("(", " ", ")", " ").Replace(s)
	return spaceRun.ReplaceAllString(s, " ")
}
