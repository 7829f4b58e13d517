package forecast

import (
	"bytes"
	"fmt"
	"image/png"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/chart"
	"grainkeep/internal/phrase"
	"grainkeep/internal/retain"
)

func ask(t *testing.T, phraseText, retainText string, growth int64) Ask {
	t.Helper()
	s, err := phrase.ParseSchedule(phraseText)
	require.NoError(t, err)
	r, err := phrase.ParseRetain(retainText)
	require.NoError(t, err)
	now := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	a := Ask{Due: []Due{{full, []*phrase.Schedule{s}}}, Retain: r, Thin: retainText != "", Zone: time.UTC, Now: now, Known: true,
		Left: 1 << 40}
	for n := range 10 {
		at := now.AddDate(0, 0, n-10)
		for _, db := range []string{"j/a", "j/b"} {
			a.Dumps = append(a.Dumps, Dump{retain.Item{ID: fmt.Sprint(db, n), Of: db, Kind: "full", Moment: at,
				Good: true}, 1000 + int64(n)*growth})
		}
	}
	return a
}

// TestAYearAhead: where all is regular, the reckoning is exact.
func TestAYearAhead(t *testing.T) {
	o := Reckon(ask(t, "02:30", "everything for 30 days", 0))
	last := o.Days[len(o.Days)-1]
	require.Len(t, o.Days, 365)
	require.EqualValues(t, 2*30*1000, last.Bytes)
	require.Equal(t, 60, last.Dumps)
	require.EqualValues(t, 365*2*1000, o.Written)
	require.EqualValues(t, 62*1000, o.Peak, "before it is thinned")
	require.True(t, o.Reached.IsZero())
	require.Equal(t, []Age{{"of the last day", 1}, {"of the last week", 6}, {"of the last month", 23},
		{"of the last three months", 0},
		{"of the last year", 0}, {"older", 0}}, o.Ages)

	a := ask(t, "02:30 on sunday", "", 100) // nothing is thinned, and each dump is larger by 100 a day
	a.Left = 10_000
	o = Reckon(a)
	require.InDelta(t, 100, o.Growth[0].PerDay, 1e-6)
	require.Equal(t, 20+2*52, o.Days[364].Dumps)
	// Sundays: 8, 15, 22 March … take 2 × (1900 + 100 × days ahead): 2 × 2560, then 2 × 3260
	require.Equal(t, "2026-03-15", o.Reached.Format(time.DateOnly))
	require.Greater(t, o.Growth[0].At(-1000*24*time.Hour), int64(0), "what shrinks does not vanish")
}

// TestAYearOfChains: the larger of two that are due together is taken; what a kept dump builds on stays.
func TestAYearOfChains(t *testing.T) {
	a := ask(t, "00:00 on sunday", "everything for 3 days, one a week for 52 weeks", 0)
	often, err := phrase.ParseSchedule("each 6 hours")
	require.NoError(t, err)
	a.Due = append(a.Due, Due{"incremental", []*phrase.Schedule{often}})
	o := Reckon(a)
	require.Equal(t, []string{"incremental"}, o.Assumed)
	require.EqualValues(t, 2*(52*1000+(365*4-52)*10), o.Written)
	a.Dumps = append(a.Dumps, Dump{retain.Item{ID: "i", Of: "j/a", Kind: "incremental", Base: "j/a9", Moment: a.Now,
		Good: true}, 30}, Dump{retain.Item{ID: "k", Of: "j/b", Kind: "incremental", Base: "j/b9", Moment: a.Now,
		Good: true}, 50})
	o = Reckon(a)
	require.Empty(t, o.Assumed)
	require.EqualValues(t, 2*52*1000+(365*4-52)*(30+50), o.Written)
	require.EqualValues(t, 1000, o.Growth[0].Bytes, "an increment is no full that shrank")
	// Of each week stays the last dump, of Sunday evening, with the three before it from the full on; of the last
	// three days everything, which builds on all since the Sunday before.
	require.Equal(t, 2*(50*4+7*4+7), o.Days[364].Dumps)
}

func TestPicturesOfAYear(t *testing.T) {
	a := ask(t, "02:30", "everything for 30 days", 50)
	o := Reckon(a)
	var b bytes.Buffer
	require.NoError(t, o.Draw(&b, "png", "What the dumps of <j> will take", 200_000))
	_, err := png.Decode(&b)
	require.NoError(t, err)
	b.Reset()
	require.NoError(t, o.Draw(&b, "svg", "x", 1<<50))
	require.Contains(t, b.String(), "</svg>")
	lines := o.Chart(60, 5)
	require.Len(t, lines, 6)
	require.Contains(t, lines[0], "█")
	require.Contains(t, lines[5], "2 Mar 2026")
	for _, l := range lines {
		require.LessOrEqual(t, len([]rune(l)), 60)
	}
	require.Empty(t, o.Chart(10, 5))
	require.Equal(t, []string{"0 B", "512 B", "1 KiB"}, labels(chart.Bytes{}, 1200))
	require.True(t, strings.HasSuffix(labels(chart.Bytes{}, 5<<30)[1], " GiB"))
}

func labels(b chart.Bytes, to float64) (list []string) {
	for _, x := range b.Ticks(0, to) {
		list = append(list, x.Label)
	}
	return list
}
