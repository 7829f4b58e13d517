package event

import (
	"bytes"
	"fmt"
	"log/slog"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestEverybodyHearsEverything(t *testing.T) {
	var f Feed
	var seen, codes []string
	f.Listen(func(e Event) { seen = append(seen, e.Word()+" "+e.Text()) })
	f.Listen(func(e Event) {
		if w, ok := e.(Warning); ok {
			codes = append(codes, w.Code)
		}
	})
	var log bytes.Buffer
	f.Listen(ToLog(slog.New(slog.NewJSONHandler(&log, nil))))
	f.Warn("floor-near", "bookings", "%d MiB left", 7)
	f.Note("", "all is well")
	require.Equal(t, []string{"warning bookings: 7 MiB left", "note all is well"}, seen)
	require.Equal(t, []string{"floor-near"}, codes)
	require.Contains(t, log.String(),
		`"level":"WARN","msg":"7 MiB left","event":"warning","code":"floor-near","of":"bookings"`)

	count := 0
	f.Listen(func(Event) { count++ }) // one at a time: the race detector would see it
	var group sync.WaitGroup
	for range 50 {
		group.Go(func() { f.Note("", "x") })
	}
	group.Wait()
	require.Equal(t, 50, count)
	(*Feed)(nil).Note("", "nobody listens")
}

func ExampleFeed() {
	var f Feed
	f.Listen(func(e Event) { fmt.Println(e.Text()) })
	f.Warn("same-file-system", "", "the keep is beside the data")
	// Output: the keep is beside the data
}
