package cli

import (
	"fmt"
	"strings"
	"time"

	"grainkeep/internal/event"
	"grainkeep/internal/phrase"
)

const (
	// patience is how long work goes on before it is shown: short work stays silent.
	patience = 700 * time.Millisecond
	redraw   = 150 * time.Millisecond
	// ratedOver is the time over which a rate is told: shorter ones jump.
	ratedOver = 5 * time.Second
)

// showProgress shows a meter while work goes on: on a terminal only. The returned function ends
// the show.
func (a *app) showProgress(m *event.Meter) func() {
	width := terminal(a.stderr)
	if width == 0 || a.quiet || a.json {
		return func() {}
	}
	done, gone := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(gone)
		a.followMeter(m, width, done)
	}()
	return func() {
		close(done)
		<-gone
		a.draw("")
	}
}

// sample is how far work was at a time.
type sample struct {
	at    time.Time
	bytes int64
}

func (a *app) followMeter(m *event.Meter, width int, done <-chan struct{}) {
	step, since := "", time.Now()
	var seen []sample
	for {
		select {
		case <-done:
			return
		case <-time.After(redraw):
		}
		now := time.Now()
		if s := m.Step(); s != step {
			step, since, seen = s, now, nil
		}
		seen = append(seen, sample{now, m.Bytes.Load()})
		for len(seen) > 2 && now.Sub(seen[0].at) > ratedOver {
			seen = seen[1:]
		}
		if step == "" || now.Sub(since) < patience {
			a.draw("")
			continue
		}
		line := []rune(phrase.Clean(progressLine(m, seen)))
		a.draw(string(line[:min(len(line), width-1)]))
	}
}

// progressLine says how far a step is: of what, how fast, how long yet.
func progressLine(m *event.Meter, seen []sample) string {
	pieces, parts := m.Pieces.Load(), []string{}
	bytes, expected := m.Bytes.Load(), m.Expected.Load()
	all := pieces > 0 && m.Done.Load() >= pieces
	if expected > 0 {
		share := min(99, bytes*100/max(1, expected)) // the estimate may be too low; the end is the end
		if all {
			share, expected = 100, bytes
		}
		parts = append(parts, fmt.Sprintf("%d %% of %s of text", share, phrase.Bytes(max(expected, bytes))))
	} else if bytes > 0 {
		parts = append(parts, phrase.Bytes(bytes)+" of text")
	}
	if pieces > 0 {
		parts = append(parts, fmt.Sprintf("%d of %s", m.Done.Load(), phrase.Plural(pieces, "part")))
	}
	if n := m.Rows.Load(); n > 0 {
		parts = append(parts, phrase.Plural(n, "row"))
	}
	if rate := rateOf(seen); rate > 0 {
		parts = append(parts, phrase.Bytes(rate)+"/s")
		if left := expected - bytes; left > 0 && !all {
			parts = append(parts, phrase.Duration(time.Duration(left/rate+1)*time.Second)+" left")
		}
	}
	return m.Step() + ": " + strings.Join(parts, ", ")
}

// rateOf is bytes a second over the samples; 0 where they say too little.
func rateOf(seen []sample) int64 {
	if len(seen) < 2 {
		return 0
	}
	first, last := seen[0], seen[len(seen)-1]
	took := last.at.Sub(first.at)
	if took < time.Second/2 || last.bytes <= first.bytes {
		return 0
	}
	return int64(float64(last.bytes-first.bytes) / took.Seconds())
}
