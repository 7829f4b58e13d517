package phrase

import (
	"regexp"
	"sync"
)

// Pattern is a regular expression that is made when it is needed first: most commands need few of them, and start sooner
// without.
func Pattern(text string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })
}
