package drill

import (
	"strings"

	"grainkeep/internal/pattern"
)

// A server may write an expression differently once it has read it: parentheses
// come and go, and casts move (varchar CHECK (s IN ('a','b')) is the classic).
// The canonical form is the list of tokens without parentheses and casts; every
// name, operator and value stays, in its order. It is used only where the texts
// differ.
var token = pattern.Of(`(?s)'(?:[^']|'')*'` + // a text
	`|"(?:[^"]|"")*"` + // a quoted name
	`|(?P<cast>::\s*(?:"(?:[^"]|"")*"|\w+)(?:\.(?:"(?:[^"]|"")*"|\w+))*` +
	`(?: varying| precision| without time zone| with time zone)?(?:\([0-9, ]+\))?(?:\[\])*)` +
	`|\w+|[^\s\w]`)

// skipped are tokens that older dumps have in other places, or that a server adds.
var skipped = map[string]bool{"(": true, ")": true, "ONLY": true, "COLUMN": true}

// Canonical is the form of a definition in which two are compared whose texts differ.
func Canonical(sql string) string {
	var b strings.Builder
	cast := token().SubexpIndex("cast")
	for _, m := range token().FindAllStringSubmatch(sql, -1) {
		if m[cast] == "" && !skipped[m[0]] {
			b.WriteString(m[0])
			b.WriteByte(' ')
		}
	}
	return b.String()
}
