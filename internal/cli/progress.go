package cli

import (
	"fmt"
	"slices"
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
		a.draw(progressLine(m, seen, width-1))
	}
}

// progressLine says how far a step is: of what, how fast, how long yet. Where there is no room for all of that, the rows
// go first, then the parts, the words of the text, and the step; never the rate and the time that is left.
func progressLine(m *event.Meter, seen []sample, width int) string {
	pieces, bytes, expected := m.Pieces.Load(), m.Bytes.Load(), m.Expected.Load()
	all := pieces > 0 && m.Done.Load() >= pieces
	var text, brief, parts, rows string
	if expected > 0 {
		share := min(99, bytes*100/max(1, expected)) // the estimate may be too low; the end is the end
		if all {
			share, expected = 100, bytes
		}
		brief = fmt.Sprintf("%d %%", share)
		text = fmt.Sprintf("%s of %s of text", brief, phrase.Bytes(max(expected, bytes)))
	} else if bytes > 0 {
		brief = phrase.Bytes(bytes)
		text = brief + " of text"
	}
	if pieces > 0 {
		parts = fmt.Sprintf("%d of %s", m.Done.Load(), phrase.Plural(pieces, "part"))
	}
	if n := m.Rows.Load(); n > 0 {
		rows = phrase.Plural(n, "row")
	}
	var rated, left string
	if rate := rateOf(seen); rate > 0 {
		rated = phrase.Bytes(rate) + "/s"
		if more := expected - bytes; more > 0 && !all {
			left = phrase.Duration(time.Duration(more/rate+1)*time.Second) + " left"
		}
	}
	step := phrase.Clean(m.Step())
	line := ""
	for _, list := range [][]string{{text, parts, rows, rated, left}, {text, parts, rated, left}, {text, rated, left},
		{brief, rated, left}, {rated, left}} {
		list = slices.DeleteFunc(list, func(s string) bool { return s == "" })
		if line = step + ": " + strings.Join(list, ", "); widthOf(line) <= width {
			return line
		}
	}
	rest := strings.TrimPrefix(line, step)
	return cut(step, max(0, width-widthOf(rest)), "…") + rest
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
