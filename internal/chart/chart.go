// Package chart has what the pictures of this program have in common.
package chart

import (
	"math"
	"strings"

	"gonum.org/v1/plot"

	"grainkeep/internal/phrase"
)

// Bytes mark sizes at round numbers of their unit.
type Bytes struct{}

// Ticks implements plot.Ticker.
func (Bytes) Ticks(_, to float64) (ticks []plot.Tick) {
	step := Step(to, 1024)
	for v := 0.0; v <= to; v += step {
		ticks = append(ticks, plot.Tick{Value: v, Label: Label(v)})
	}
	return ticks
}

// Label is a size without needless digits.
func Label(v float64) string { return strings.Replace(phrase.Bytes(int64(v)), ".0 ", " ", 1) }

// Step is a round distance between marks, of which there are four to nine, where units grow by a factor.
func Step(to, factor float64) float64 {
	unit := 1.0
	for unit*factor <= to {
		unit *= factor
	}
	raw := to / unit / 5
	ten := math.Pow(10, math.Floor(math.Log10(max(raw, 1e-3))))
	for _, n := range []float64{1, 2, 5, 10} {
		if n*ten >= raw {
			return n * ten * unit
		}
	}
	return 10 * ten * unit
}
