package engine

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/fault"
)

// TestRemovalsAreStrict: names may hold what looks like the end of a statement, and one that takes other rows than it
// says stops all.
func TestRemovalsAreStrict(t *testing.T) {
	odd := "DELETE FROM \"a; -- rows: 7\n\" WHERE k>'it''s; -- rows: 1\n'"
	text := "-- head\nBEGIN;\n" + string(AppendRows([]byte(odd), 3)) + string(AppendRows([]byte("DELETE FROM b"), 0)) +
		"COMMIT;\n"
	var ran []string
	take := func(n int64) func([]byte) (int64, error) {
		return func(sql []byte) (int64, error) {
			ran = append(ran, string(sql))
			return n * int64(strings.Count(string(sql), "it''s")), nil
		}
	}
	n, err := Removals(strings.NewReader(text), take(3), nil)
	require.NoError(t, err)
	require.Equal(t, []string{"-- head\nBEGIN;\n" + odd, "DELETE FROM b"}, ran)
	require.EqualValues(t, 3, n)
	_, err = Removals(strings.NewReader(text), take(4), nil)
	require.True(t, fault.HasCode(err, "rows-differ"), err)
	_, err = Removals(strings.NewReader(text[:30]), take(3), nil)
	require.ErrorContains(t, err, "no end")
}
