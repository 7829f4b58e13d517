package cli

import (
	"fmt"
	"os"
	"sync"
	"time"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"

	"grainkeep/internal/event"
	"grainkeep/internal/phrase"
)

// patience is how long work goes on before it is shown: short work stays silent.
const patience = 700 * time.Millisecond

// display shows a meter on a terminal, one line that other output pushes away.
type display struct {
	mu   sync.Mutex
	f    *os.File
	bar  *progressbar.ProgressBar
	done chan struct{}
	gone sync.WaitGroup
}

// showProgress shows a meter while work goes on: on a terminal only. The returned function ends
// the show.
func (a *app) showProgress(m *event.Meter) func() {
	f, ok := a.stderr.(*os.File)
	if !ok || a.quiet || a.json || !term.IsTerminal(int(f.Fd())) {
		return func() {}
	}
	d := &display{f: f, done: make(chan struct{})}
	a.display = d
	d.gone.Go(func() { d.show(m) })
	return func() {
		close(d.done)
		d.gone.Wait()
		d.clear()
		a.display = nil
	}
}

// clear takes the line away, so that something else can be written.
func (d *display) clear() {
	if d == nil {
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.bar != nil {
		d.bar.Clear()
	}
}

func (d *display) show(m *event.Meter) {
	step, since := "", time.Now()
	for {
		select {
		case <-d.done:
			return
		case <-time.After(150 * time.Millisecond):
		}
		if s := m.Step(); s != step {
			d.clear()
			step, since = s, time.Now()
			d.bar = nil
		}
		if time.Since(since) > patience {
			d.draw(m)
		}
	}
}

func (d *display) draw(m *event.Meter) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.bar == nil {
		d.bar = newBar(d.f, m.Expected.Load())
	}
	text := fmt.Sprintf("%s: %d of %d", m.Step(), m.Done.Load(), m.Pieces.Load())
	if n := m.Rows.Load(); n > 0 {
		text += ", " + phrase.Plural(n, "row")
	}
	d.bar.Describe(phrase.Clean(text))
	n := m.Bytes.Load()
	if most := m.Expected.Load(); most > 0 {
		n = min(n, most-1) // the estimate may be too low; the end is the end
	}
	d.bar.Set64(n)
}

func newBar(f *os.File, expected int64) *progressbar.ProgressBar {
	if expected <= 0 {
		expected = -1
	}
	return progressbar.NewOptions64(expected, progressbar.OptionSetWriter(f), progressbar.OptionShowBytes(true),
		progressbar.OptionSetPredictTime(true), progressbar.OptionSetWidth(20),
		progressbar.OptionThrottle(100*time.Millisecond),
		progressbar.OptionUseIECUnits(true), progressbar.OptionClearOnFinish(), progressbar.OptionSetElapsedTime(false))
}
