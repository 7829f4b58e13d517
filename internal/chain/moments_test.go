package chain

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
)

// TestDaysOfMoments divides by the days of a zone, also of one whose days begin elsewhere, and finds the longest gaps.
func TestDaysOfMoments(t *testing.T) {
	zone, err := time.LoadLocation("Pacific/Auckland")
	require.NoError(t, err)
	var dumps []*keep.Dump
	for _, at := range []string{"2026-03-13T10:00:00Z", "2026-03-13T10:30:00Z", "2026-03-13T11:15:00Z",
		"2026-03-13T11:30:00Z"} {
		moment, err := time.Parse(time.RFC3339, at)
		require.NoError(t, err)
		dumps = append(dumps, &keep.Dump{Manifest: &manifest.Manifest{Moment: moment}})
	}
	days := Days(dumps, zone) // 23:00 and 23:30, then 00:15 and 00:30 of the next
	require.Len(t, days, 2)
	require.Equal(t, []int{2, 2}, []int{len(days[0].Dumps), len(days[1].Dumps)})
	require.Equal(t, []time.Duration{30 * time.Minute, 45 * time.Minute}, []time.Duration{days[0].Gap, days[1].Gap})
	require.Equal(t, dumps[1].Manifest.Moment, days[1].From)
	require.Equal(t, "2026-03-14", days[1].Day.Format(time.DateOnly))
}
