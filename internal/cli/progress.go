package cli

import (
	"fmt"
	"os"
	"time"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"

	"grainkeep/internal/phrase"
	"grainkeep/internal/stream"
)

// meter gives a meter that is shown while work goes on: on a terminal only. The
// returned function ends the show.
func (a *app) meter() (*stream.Meter, func()) {
	m := &stream.Meter{}
	f, ok := a.stderr.(*os.File)
	if !ok || a.quiet || a.json || !term.IsTerminal(int(f.Fd())) {
		return m, func() {}
	}
	done := make(chan struct{})
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		show(m, f, done)
	}()
	return m, func() { close(done); <-ended }
}

func show(m *stream.Meter, f *os.File, done chan struct{}) {
	var bar *progressbar.ProgressBar
	step := ""
	clear := func() {
		if bar != nil {
			bar.Clear()
		}
	}
	defer clear()
	for {
		select {
		case <-done:
			return
		case <-time.After(150 * time.Millisecond):
		}
		if s := m.Step(); s != step {
			clear()
			step = s
			bar = newBar(f, m.Expected.Load())
		}
		if bar == nil {
			continue
		}
		bar.Describe(fmt.Sprintf("%s: %d of %d, %s rows", step, m.TablesDone.Load(), m.Tables.Load(), phrase.Count(m.Rows.Load())))
		n := m.Bytes.Load()
		if most := m.Expected.Load(); most > 0 {
			n = min(n, most-1) // the estimate may be too low; the end is the end
		}
		bar.Set64(n)
	}
}

func newBar(f *os.File, expected int64) *progressbar.ProgressBar {
	if expected <= 0 {
		expected = -1
	}
	return progressbar.NewOptions64(expected, progressbar.OptionSetWriter(f), progressbar.OptionShowBytes(true),
		progressbar.OptionSetPredictTime(true), progressbar.OptionSetWidth(20), progressbar.OptionThrottle(100*time.Millisecond),
		progressbar.OptionUseIECUnits(true), progressbar.OptionClearOnFinish(), progressbar.OptionSetElapsedTime(false))
}
