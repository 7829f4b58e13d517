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
	require.Equal(t, "dumping bookings: 0 % of 40.0 MiB of text, 0 of 8 parts", progressLine(&m, []sample{{start, 0}}))
	m.Bytes.Store(10 << 20)
	m.Done.Store(2)
	m.Rows.Store(1234)
	seen := []sample{{start, 0}, {start.Add(2 * time.Second), 10 << 20}}
	require.Equal(t, "dumping bookings: 25 % of 40.0 MiB of text, 2 of 8 parts, 1,234 rows, 5.0 MiB/s, 7.0 s left",
		progressLine(&m, seen))
	require.Zero(t, rateOf([]sample{{start, 0}, {start.Add(time.Millisecond), 10 << 20}}), "too soon to tell")
	m.Bytes.Store(50 << 20) // the estimate was too low
	require.Contains(t, progressLine(&m, seen), "99 % of 50.0 MiB of text")
	m.Done.Store(8)
	require.Contains(t, progressLine(&m, seen), "100 % of 50.0 MiB of text, 8 of 8 parts")
	require.NotContains(t, progressLine(&m, seen), "left")
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

func TestTablesFitTheirTerminal(t *testing.T) {
	a := &app{screen: screen{stdout: &strings.Builder{}}}
	table := a.newTable([]string{"Database", "Note"})
	table.row("bookings", strings.Repeat("word ", 30))
	table.width = 60
	for l := range strings.SplitSeq(string(table.render()), "\n") {
		require.LessOrEqual(t, len(l), 60)
	}
}
