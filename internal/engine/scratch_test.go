package engine

import (
	"slices"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

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

// TestNamesBesideAndAside: what a restore calls databases is a name, is free, and is known again.
func TestNamesBesideAndAside(t *testing.T) {
	at := time.Date(2026, 3, 14, 2, 30, 0, 0, time.UTC)
	for _, name := range []string{"bookings", "aé" + "ééééééééééééééééééééééééééééééé", "x"} {
		spec := TargetSpec{Name: name, Aside: at}
		taken := map[string]bool{}
		for range 3 {
			got, err := spec.AsideName(63, func(n string) (bool, error) { return taken[n], nil })
			require.NoError(t, err)
			require.False(t, taken[got])
			require.LessOrEqual(t, len(got), 63)
			require.True(t, utf8.ValidString(got), "no half of a character: %q", got)
			require.True(t, MovedAside(got), got)
			taken[got] = true
		}
		beside := BesideName(name, 2)
		require.True(t, utf8.ValidString(beside))
		require.False(t, MovedAside(beside))
	}
	require.Equal(t, "bookings_restored.db", BesideName("bookings.db", 1))
	require.True(t, MovedAside("bookings-before-20260314T023000Z.db"))
	for _, name := range []string{"bookings", "the_day_before_20260314", "before_20260314t023000z_x"} {
		require.False(t, MovedAside(name), name)
	}
}

// TestStatementsAreDividedByTheirRows: names in the head of an INSERT may hold what looks like its end.
func TestStatementsAreDividedByTheirRows(t *testing.T) {
	first := "-- what it holds\nPRAGMA x;\nINSERT INTO \"a);\nb\"(\"c VALUES\n\",`\"`) VALUES\n(1,2),\n(3,');');\n"
	second := "INSERT INTO t(a) VALUES\n(5);\n"
	var got []string
	rows, err := Inserts(strings.NewReader(first+second), func(int64) {}, func(sql []byte) (int64, error) {
		got = append(got, string(sql))
		return 1, nil
	})
	require.NoError(t, err)
	require.EqualValues(t, 2, rows)
	require.Equal(t, []string{first, second}, got)
}
