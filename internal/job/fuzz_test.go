package job

import (
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/engine"
)

func FuzzAddress(f *testing.F) {
	f.Add("postgres://ann@db:5433/app?tls=on", "hunter2")
	f.Fuzz(func(t *testing.T, text, password string) {
		at, err := Of(nil).Address(text)
		if err == nil {
			require.NotEmpty(t, at.Engine)
		}
		if len(password) > 6 {
			_, err := Of(nil).Address("postgres://ann:" + password + "@db/app")
			if err != nil {
				require.NotContains(t, err.Error(), password)
			}
		}
		_ = engine.ShellQuote(text)
	})
}
