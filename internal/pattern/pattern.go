// Package pattern makes regular expressions when they are needed first: most commands need few of them, and start sooner
// without.
package pattern

import (
	"regexp"
	"sync"
)

// Of is a regular expression that is made at its first use. It panics then if there is no such expression. It may be used
// side by side.
func Of(text string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })
}
