package engine

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestNamesOfOldDatabases(t *testing.T) {
	spec := TargetSpec{Name: "bookings", Aside: time.Date(2026, 3, 14, 9, 30, 0, 0, time.UTC)}
	var names []string
	for range 3 { // in one second
		name, err := spec.AsideName(30, func(name string) (bool, error) { return slices.Contains(names, name), nil })
		require.NoError(t, err)
		names = append(names, name)
	}
	require.Equal(t, []string{"okings_before_20260314t093000z", "ings_before_20260314t093000z_2",
		"ings_before_20260314t093000z_3"}, names)
}
