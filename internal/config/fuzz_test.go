package config

import (
	"testing"
)

// FuzzParse reads configurations, such as a keep remembers of its jobs.
func FuzzParse(f *testing.F) {
	f.Add([]byte(good))
	f.Add(Starter)
	f.Fuzz(func(t *testing.T, data []byte) {
		c, err := Parse(data, "x.toml")
		if err != nil {
			return
		}
		for _, name := range c.Jobs() {
			text, err := c.Excerpt(name)
			if err != nil {
				continue // a key that TOML cannot write
			}
			if _, err := Parse(text, "y.toml"); err != nil {
				t.Errorf("what is kept of the job cannot be read: %v\n%s", err, text)
			}
		}
	})
}
