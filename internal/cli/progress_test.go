package cli

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/event"
)

// TestALineOfProgress says of what it is a share, begins with a sane rate, and ends at 100.
func TestALineOfProgress(t *testing.T) {
	var m event.Meter
	m.Begin("dumping bookings", 8, 40<<20)
	start := time.Now()
	require.Equal(t, "dumping bookings: 0 % of 40.0 MiB of text, 0 of 8 parts", progressLine(&m, []sample{{start, 0}}, 120))
	m.Bytes.Store(10 << 20)
	m.Done.Store(2)
	m.Rows.Store(1234)
	seen := []sample{{start, 0}, {start.Add(2 * time.Second), 10 << 20}}
	require.Equal(t, "dumping bookings: 25 % of 40.0 MiB of text, 2 of 8 parts, 1,234 rows, 5.0 MiB/s, 7.0 s left",
		progressLine(&m, seen, 120))
	require.Equal(t, "dumping bookings: 25 % of 40.0 MiB of text, 5.0 MiB/s, 7.0 s left", progressLine(&m, seen, 70))
	require.Equal(t, "dumping boo…: 5.0 MiB/s, 7.0 s left", progressLine(&m, seen, 35), "the rate and the rest stay")
	require.Zero(t, rateOf([]sample{{start, 0}, {start.Add(time.Millisecond), 10 << 20}}), "too soon to tell")
	m.Bytes.Store(50 << 20) // the estimate was too low
	require.Contains(t, progressLine(&m, seen, 120), "99 % of 50.0 MiB of text")
	m.Done.Store(8)
	require.Contains(t, progressLine(&m, seen, 120), "100 % of 50.0 MiB of text, 8 of 8 parts")
	require.NotContains(t, progressLine(&m, seen, 120), "left")
}

// TestTheScreenKeepsItsLineBelow: what is written pushes the line of progress away, whole.
func TestTheScreenKeepsItsLineBelow(t *testing.T) {
	var out strings.Builder
	s := screen{stdout: &out, stderr: &out}
	s.draw("half way")
	require.NoError(t, s.writeTo(&out, "warning: x\n"))
	s.draw("three quarters")
	s.draw("")
	require.Equal(t, "half way\r\x1b[Kwarning: x\nthree quarters\r\x1b[K", out.String())
	require.EqualValues(t, "proven", paint(&out, green, "proven"), "colours are for terminals")
}

// TestTablesFitTheirTerminal: columns give way in their order, prose breaks between words, and no line is too long.
func TestTablesFitTheirTerminal(t *testing.T) {
	a := &app{screen: screen{stdout: &strings.Builder{}}}
	at := time.Date(2026, 3, 14, 2, 30, 5, 0, time.UTC)
	of := func(width int) string {
		table := a.newTable([]string{"Dump", "Moment", "Kind", "Size", "Id", "Why"}, "Size").without("Kind").words("Why")
		table.width = width
		table.row("nightly/bookings_of_the_season", instant{at, time.UTC}, "incremental", "40.0 KiB", "abcdef0123", "the newest of its day")
		table.row("nightly/cargo", instant{at.Add(time.Minute), time.UTC}, "full", "1.0 MiB", "0123abcdef", "held")
		return string(table.render())
	}
	require.Contains(t, of(0), "2026-03-14 02:30:05 UTC")
	require.Equal(t, `Dump                            Moment, UTC       Kind             Size  Id          Why
nightly/bookings_of_the_season  2026-03-14 02:30  incremental  40.0 KiB  abcdef0123  the newest of its day
nightly/cargo                   2026-03-14 02:31  full          1.0 MiB  0123abcdef  held`, of(106))
	require.Equal(t, `Dump                 Moment, UTC           Size  Id        Why
nightly/bookings_o…  2026-03-14 02:30  40.0 KiB  abcdef01  the newest of its day
nightly/cargo        2026-03-14 02:31   1.0 MiB  0123abcd  held`, of(80))
	require.Equal(t, `Dump        Moment, UTC           Size  Id        Why
nightly/b…  2026-03-14 02:30  40.0 KiB  abcdef01  the newest
                                                  of
                                                  its day
nightly/c…  2026-03-14 02:31   1.0 MiB  0123abcd  held`, of(60))
}
