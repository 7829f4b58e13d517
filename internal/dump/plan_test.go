package dump

import (
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

func TestChoose(t *testing.T) {
	there := []engine.Database{{Name: "a/b c\"d'é"}, {Name: "bookings"}, {Name: "postgres", System: true},
		{Name: "season_2025"}, {Name: "season_test"}, {Name: "torn", Odd: "its head is damaged"}}
	for _, c := range []struct {
		choice Choice
		want   []string
		code   string
		advice string
	}{
		{Choice{}, []string{"a/b c\"d'é", "bookings", "season_2025", "season_test"}, "", ""},
		{Choice{Databases: []string{"season_*", "bookings"}, Except: []string{"*_test"}}, []string{"bookings",
			"season_2025"}, "", ""},
		{Choice{Databases: []string{"postgres"}}, []string{"postgres"}, "", ""},
		{Choice{Databases: []string{"p*"}}, nil, "nothing-matched", "the source has: a/b c\"d'é, bookings"},
		{Choice{Databases: []string{"bookings", "roster"}}, nil, "nothing-matched", "goes into optional"},
		{Choice{Databases: []string{"bookings"}, Optional: []string{"roster", "a*"}}, []string{"a/b c\"d'é",
			"bookings"}, "", ""},
		{Choice{Databases: []string{"season_test"}, Except: []string{"season_*"}}, nil, "nothing-matched",
			"left out by except (season_test)"},
		{Choice{Databases: []string{"t*"}}, nil, "nothing-matched", "torn is left out: its head is damaged"},
		{Choice{Optional: []string{"roster"}}, nil, "nothing-matched", ""},
	} {
		p, err := Choose(c.choice, there)
		if c.code != "" {
			require.True(t, fault.HasCode(err, c.code), "%v: %v", c.choice, err)
			require.Contains(t, fault.Of(err).Do, c.advice)
			continue
		}
		require.NoError(t, err)
		var got []string
		for _, d := range p.Databases {
			got = append(got, d.Name)
		}
		require.Equal(t, c.want, got)
	}
	p, err := Choose(Choice{}, there)
	require.NoError(t, err)
	require.True(t, fault.HasCode(p.Narrow([]string{"roster"}), "not-in-job"))
	require.NoError(t, p.Narrow([]string{"bookings"}))
	require.Len(t, p.Databases, 1)
}
