package phrase

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// FuzzPhrases reads what people write; what is understood is possible.
func FuzzPhrases(f *testing.F) {
	for _, s := range []string{"2026-03-14T09:30", "2026-10-25T01:30+01:00", "2026-03-14", "2 days ago", "90 min",
		"20 GiB", "15%", "99999999999 TiB"} {
		f.Add(s)
	}
	zone, err := time.LoadLocation("Atlantic/Faroe")
	require.NoError(f, err)
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	f.Fuzz(func(t *testing.T, s string) {
		if w, err := ParseWhen(s, zone, now); err == nil {
			_, err := time.Parse(time.DateOnly, w.Day)
			require.NoError(t, err)
		}
		if d, err := ParseAge(s); err == nil {
			require.GreaterOrEqual(t, d, time.Duration(0), s)
		}
		if n, err := ParseBytes(s); err == nil {
			require.GreaterOrEqual(t, n, int64(0), s)
			require.NotEmpty(t, Bytes(n))
		}
		if fl, err := ParseFloor(s); err == nil {
			require.True(t, fl.Percent >= 0 && fl.Percent < 100 && fl.Bytes >= 0, s)
		}
		clean := Clean(s)
		require.Equal(t, clean, Clean(clean))
		require.NotContains(t, clean, "\x1b")
		Redact(s)
		Match(s, "bookings")
		CleanJSON(s)
	})
}
